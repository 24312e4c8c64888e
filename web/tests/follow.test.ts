// @vitest-environment jsdom
import "./globals";
import { describe, expect, it } from "vitest";
import { followingTool, followUp } from "../src/stages/route/followUp";

const tool = (number: number, diameter_mm: number, kind = "flat") => ({
  number,
  cutter: { kind, diameter_mm, flute_length_mm: 5 },
});
const row = (number: number, params = {}) => ({
  number,
  setup: "a",
  tool: 1,
  params: { strategy: "steady roughing", allowance_mm: 0.4, engagement_deg: 50, ...params },
});
const doc = {
  tools: [tool(1, 16), tool(2, 4), tool(3, 8), tool(4, 10, "ball"), tool(5, 20)],
  operations: [row(10), row(15), row(20, { strategy: "waterline" })],
} as never as Parameters<typeof followingTool>[0];

const kinds = {
  "steady roughing": { left_to: "rest roughing", properties: {} },
  waterline: { left_to: "", properties: {} },
  "rest roughing": {
    properties: { stepdown_mm: {}, allowance_mm: {}, engagement_deg: {} },
    cutters: ["flat", "bull-nose", "ball"],
    of_diameter: { stepdown_mm: 1 },
  },
} as never as Parameters<typeof followingTool>[2];

describe("the row that follows a roughing row", () => {
  it("has the largest tool that is smaller and roughs", () => {
    expect(followingTool(doc, doc.operations[0], kinds)?.number).toBe(3);
    expect(followingTool(doc, doc.operations[2], kinds)).toBeUndefined();
    expect(followingTool({ ...doc, tools: doc.tools.slice(0, 1) }, doc.operations[0], kinds)).toBeUndefined();
  });

  it("has one no larger that is long enough, where shank or holder are in the way", () => {
    const tools = [tool(1, 16), tool(2, 4), tool(3, 8), tool(4, 16), tool(5, 20)].map((t, k) => ({
      ...t,
      stick_out_mm: [40, 90, 50, 70, 90][k],
    }));
    const long = { ...doc, tools } as never as typeof doc;
    expect(followingTool(long, doc.operations[0], kinds, 60)?.number).toBe(4);
    expect(followingTool(long, doc.operations[0], kinds, 80)?.number).toBe(2);
    expect(followingTool(long, doc.operations[0], kinds, 95)).toBeUndefined();
  });

  it("stands right behind it under a free number, and keeps what holds for both", () => {
    const { number, edits } = followUp(doc, doc.operations[0], doc.tools[2], kinds);
    expect(number).toBe(16);
    expect(edits[0]).toMatchObject({ op: "add", path: "operations" });
    expect(edits[0].value).toMatchObject({
      tool: 3,
      params: { strategy: "rest roughing", stepdown_mm: 5, allowance_mm: 0.4, engagement_deg: 50 },
    });
    expect(edits[1]).toMatchObject({ op: "move", path: "operations/16", value: 1 });
  });
});
