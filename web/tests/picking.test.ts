import { describe, expect, it } from "vitest";
import { pick, pickNothing, picks } from "../src/job/picking";
import { makeStore } from "../src/job/store";

describe("picks", () => {
  it("keep what a change does not name", () => {
    pick({ faces: [3], purpose: "up" });
    pick({ edges: [7] });
    expect(picks.get()).toMatchObject({ faces: [3], edges: [7], purpose: "up" });
  });
  it("are empty again for another job", () => {
    pick({ faces: [3], lit: [1], purpose: "seat", reach: "chain", place: [1, 2, 3] });
    pickNothing();
    expect(picks.get()).toEqual({ faces: [], edges: [], lit: [], purpose: "", reach: "face", place: null });
  });
});

describe("a store", () => {
  it("keeps what it was last set to", () => {
    const s = makeStore(1);
    s.set(5);
    expect(s.get()).toBe(5);
  });
});
