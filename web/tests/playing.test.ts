import { describe, expect, it } from "vitest";
import type { Finding } from "../src/api/client";
import { motionAt, operationEdge, played } from "../src/job/playing";

const ends = Float64Array.of(1, 2, 4, 7, 7.5);
const finding = (motion: number | null, severity: string) => ({ motion, severity }) as Finding;

describe("the motion at a time", () => {
  it("is the one that ends then or later", () => {
    const linear = (t: number) => {
      const k = [...ends].findIndex((e) => e >= t);
      return k < 0 ? ends.length : k + 1;
    };
    for (const t of [-1, 0, 0.5, 1, 1.01, 4, 6.9, 7.2, 7.5, 9]) expect(motionAt(ends, t)).toBe(linear(t));
  });

  it("of nothing is none", () => expect(motionAt(new Float64Array(), 3)).toBe(0));
});

describe("playing", () => {
  it("goes on by machine time", () => {
    expect(played(ends, 0, 3.5, [], "fault")).toEqual({ moment: 3, over: false });
    expect(played(ends, 2, 1.5, [], "fault")).toEqual({ moment: 3, over: false });
  });

  it("goes on by one motion at least, so that a long one does not hold it", () =>
    expect(played(ends, 3, 0.001, [], "none").moment).toBe(4));

  it("ends with the last motion", () => expect(played(ends, 3, 100, [], "none")).toEqual({ moment: 5, over: true }));

  it("stops at the first finding on the way, in whatever order they are listed", () => {
    const findings = [finding(3, "fault"), finding(1, "fault"), finding(null, "fault")];
    expect(played(ends, 0, 6, findings, "fault")).toEqual({ moment: 2, over: true });
    expect(played(ends, 2, 6, findings, "fault")).toEqual({ moment: 4, over: true });
  });

  it("goes on from the finding that it stopped at", () =>
    expect(played(ends, 2, 1, [finding(1, "fault")], "fault")).toEqual({ moment: 3, over: false }));

  it("passes what it is not to stop at", () => {
    const findings = [finding(0, "attention")];
    expect(played(ends, 0, 1.5, findings, "fault").over).toBe(false);
    expect(played(ends, 0, 1.5, findings, "none").over).toBe(false);
    expect(played(ends, 0, 1.5, findings, "attention")).toEqual({ moment: 1, over: true });
    expect(played(ends, 0, 1.5, findings, "all")).toEqual({ moment: 1, over: true });
  });
});

describe("the edge of an operation", () => {
  const operations = [10, 10, 20, 20, 20];
  it("forwards is where the next begins, and then the end", () => {
    expect(operationEdge(operations, 1, 1)).toBe(2);
    expect(operationEdge(operations, 3, 1)).toBe(5);
    expect(operationEdge(operations, 5, 1)).toBe(5);
  });
  it("backwards is where this one or the one before began", () => {
    expect(operationEdge(operations, 5, -1)).toBe(2);
    expect(operationEdge(operations, 2, -1)).toBe(0);
    expect(operationEdge(operations, 0, -1)).toBe(0);
  });
});
