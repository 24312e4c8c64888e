import { describe, expect, it } from "vitest";
import { decode } from "../src/api/client";

/** A block as the server writes it (docs/layout.md). */
function block(meta: unknown, name: string, type: string, values: Float32Array | Uint8Array): ArrayBuffer {
  let head = JSON.stringify({ meta, arrays: [{ name, type, shape: [values.length], offset: 0 }] });
  head += " ".repeat((8 - ((head.length + 8) % 8)) % 8);
  const out = new Uint8Array(8 + head.length + values.byteLength);
  out.set(new TextEncoder().encode("FNRK"));
  new DataView(out.buffer).setUint32(4, head.length, true);
  out.set(new TextEncoder().encode(head), 8);
  out.set(new Uint8Array(values.buffer), 8 + head.length);
  return out.buffer;
}

describe("numbers from the server", () => {
  it("reads arrays in their types", () => {
    const found = decode(block({ motion: 7 }, "ends", "f4", new Float32Array([1.5, -2])));
    expect(found.meta).toEqual({ motion: 7 });
    expect([...found.ends]).toEqual([1.5, -2]);
    expect([...decode(block({}, "kind", "u1", new Uint8Array([3, 255]))).kind]).toEqual([3, 255]);
  });

  it("refuses what is something else", () => {
    expect(() => decode(new TextEncoder().encode("<html> not a block").buffer as ArrayBuffer)).toThrow("not a block");
  });
});
