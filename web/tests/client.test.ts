import { describe, expect, it } from "vitest";
import { encode } from "./block";
import { decode, describe as describeProblem, take } from "../src/api/client";

describe("numbers from the server", () => {
  it("reads arrays in their types", () => {
    const found = decode(encode({ motion: 7 }, { odd: Uint8Array.of(1), ends: Float32Array.of(1.5, -2) }));
    expect(found.meta).toEqual({ motion: 7 });
    expect([...found.ends]).toEqual([1.5, -2]);
    expect([...decode(encode({}, { kind: Uint8Array.of(3, 255) })).kind]).toEqual([3, 255]);
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
