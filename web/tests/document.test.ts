import { describe, expect, it } from "vitest";
import { freshId, toolLabel, type Cutter, type Tool } from "../src/job/document";
import { seedFor } from "../src/stages/tools/fresh";

const tool = (more: object) => ({ name: "", ...more }) as unknown as Tool;

describe("names that are not taken yet", () => {
  it("are plain first, then numbered from 2", () => {
    expect(freshId("Toe clamp", [])).toBe("toe-clamp");
    expect(freshId("Toe clamp", ["toe-clamp"])).toBe("toe-clamp-2");
    expect(freshId("vise", ["vise", "vise-3", "vise-2"])).toBe("vise-4");
  });
  it("have nothing in them that an address could not hold", () => {
    expect(freshId("Ø 12 / side (left)", [])).toMatch(/^[a-z0-9-]+$/);
  });
});

describe("what a tool is called", () => {
  it("is its own name, or its cutter and size", () => {
    const cutter = { kind: "bull-nose", diameter_mm: 10, corner_radius_mm: 1.5 };
    expect(toolLabel(tool({ name: "old one", cutter }))).toBe("old one");
    expect(toolLabel(tool({ cutter }))).toBe("bull-nose ⌀10 r1.5");
    expect(toolLabel(tool({ cutter: { kind: "ball", diameter_mm: 6 } }))).toBe("ball ⌀6");
    expect(toolLabel(undefined)).toBe("–");
  });
});

describe("numbers for another kind of cutter", () => {
  const seed = seedFor({ kind: "flat", diameter_mm: 8, flute_length_mm: 30 } as Cutter);
  it("keep the diameter and flutes that are there", () => {
    expect(seed).toMatchObject({ diameter_mm: 8, flute_length_mm: 30 });
    expect(seedFor({ kind: "flat", diameter_mm: 40, flute_length_mm: 5 } as Cutter).flute_length_mm).toBe(48);
  });
  it("fit into the cutter: necks, tips and pilots are thinner than it is", () => {
    for (const name of ["neck_diameter_mm", "tip_diameter_mm", "pilot_diameter_mm"])
      expect(seed[name] as number).toBeLessThan(8);
    expect(seed.corner_radius_mm as number).toBeLessThan(4);
  });
  it("begin an outline at the axis and end it at the radius", () => {
    const places = seed.places as number[][];
    expect(places[0][0]).toBe(0);
    expect(Math.max(...places.map((p) => p[0]))).toBe(4);
  });
});
