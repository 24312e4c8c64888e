import { describe, expect, it } from "vitest";
import { decode, describe as describeProblem, take } from "../src/api/client";

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

describe("an answer that was not hoped for", () => {
  const response = (ok: boolean, statusText = "") => ({ ok, status: ok ? 200 : 502, statusText }) as Response;

  it("is told by its problems with their ways out, else by its detail, else by its title", () => {
    const problems = [
      { field: "a", message: "Tool 3 is missing.", way_out: "Add it." },
      { field: "b", message: "Nothing is cut.", way_out: "" },
    ];
    expect(describeProblem({ title: "t", status: 422, detail: "d", problems })).toBe(
      "Tool 3 is missing. Add it. Nothing is cut.",
    );
    expect(describeProblem({ title: "t", status: 409, detail: "d" })).toBe("d");
    expect(describeProblem({ title: "t", status: 409 })).toBe("t");
  });

  it("becomes an error that carries the whole problem", async () => {
    const problem = { title: "Changed meanwhile", status: 409 };
    await expect(take(Promise.resolve({ error: problem, response: response(false) }))).rejects.toMatchObject({
      problem,
      message: "Changed meanwhile",
    });
  });

  it("is an error too where the server said nothing, or did not answer", async () => {
    await expect(take(Promise.resolve({ response: response(false, "Bad Gateway") }))).rejects.toThrow("Bad Gateway");
    await expect(take(Promise.reject(new TypeError("fetch failed")))).rejects.toThrow("does not answer");
  });

  it("is no error where there is data, or none is due", async () => {
    await expect(take(Promise.resolve({ data: 5, response: response(true) }))).resolves.toBe(5);
    await expect(take(Promise.resolve({ response: response(true) }))).resolves.toBeUndefined();
  });
});
