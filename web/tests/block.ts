const NAMES: [new (n: number) => ArrayBufferView, string][] = [
  [Float32Array, "f4"],
  [Float64Array, "f8"],
  [Int32Array, "i4"],
  [Uint32Array, "u4"],
  [Uint8Array, "u1"],
];

/** Arrays as the server writes them (docs/layout.md). */
export function encode(meta: unknown, arrays: Record<string, ArrayBufferView & { length: number }>): ArrayBuffer {
  let offset = 0;
  const told = Object.entries(arrays).map(([name, values]) => {
    const at = offset;
    offset += 8 * Math.ceil(values.byteLength / 8);
    return { name, type: NAMES.find(([of]) => values instanceof of)![1], shape: [values.length], offset: at };
  });
  let head = JSON.stringify({ meta, arrays: told });
  head += " ".repeat((8 - ((head.length + 8) % 8)) % 8);
  const out = new Uint8Array(8 + head.length + offset);
  out.set(new TextEncoder().encode("FNRK"));
  new DataView(out.buffer).setUint32(4, head.length, true);
  out.set(new TextEncoder().encode(head), 8);
  Object.values(arrays).forEach((values, k) =>
    out.set(new Uint8Array(values.buffer, values.byteOffset, values.byteLength), 8 + head.length + told[k].offset),
  );
  return out.buffer;
}
