import { describe, expect, it } from "vitest";
import type { Schemas } from "../src/api/client";
import { arrow, LOOKS, rowsOf } from "../src/stages/part/featureRows";

const UP = [0, 0, 1];

/** What the server recognised, of which only some kinds are there. */
const recognised = (some: object) => rowsOf(some as Schemas["Recognition"]);

const hole = (name: string, group: number, more: object = {}) => ({
  name,
  group,
  through: true,
  diameter_mm: 6,
  depth_mm: 12.5,
  direction: UP,
  faces: [group],
  steps: [{ kind: "bore", diameter_mm: 6, depth_mm: 12.5 }],
  accessible: true,
  ...more,
});

describe("features as rows", () => {
  it("puts alike holes in one row with the faces of all of them", () => {
    const rows = recognised({
      holes: [
        hole("hole 1", 1, { faces: [3, 4] }),
        hole("hole 2", 2, { faces: [9] }),
        hole("hole 3", 1, { faces: [7] }),
      ],
    });
    expect(rows.map((r) => r.name)).toEqual(["2 holes", "hole 2"]);
    expect(rows[0].faces).toEqual([3, 4, 7]);
    expect(rows[0]).toMatchObject({ what: "through hole", size: "⌀6", depth: "12.5", accessible: true, why: "" });
  });

  it("says of a group what keeps any of its holes from being reached", () => {
    const [row] = recognised({
      holes: [hole("hole 1", 1), hole("hole 2", 1, { accessible: false, why: "a wall stands over it." })],
    });
    expect(row.accessible).toBe(false);
    expect(row.why).toBe("a wall stands over it.");
  });

  it("tells the steps of a hole in words, but not its bore, and the threads it is drilled for", () => {
    const [row] = recognised({
      holes: [
        hole("hole 1", 1, {
          through: false,
          steps: [
            { kind: "counterbore", diameter_mm: 11, depth_mm: 6.4 },
            { kind: "countersink", diameter_mm: 8, depth_mm: 1, angle_deg: 90 },
            { kind: "bore", diameter_mm: 6, depth_mm: 12.5 },
            { kind: "drill point", diameter_mm: 6, depth_mm: 1.7, angle_deg: 118 },
          ],
          threads: ["M7"],
        }),
      ],
    });
    expect(row.what).toBe("blind hole");
    expect(row.note).toBe("counterbore ⌀11 × 6.4 · countersink ⌀8 90° · point 118° · tap drill of M7");
  });

  it("says of a pocket only what it has", () => {
    const pocket = {
      name: "pocket 1",
      kind: "pocket",
      length_mm: 1234.5,
      width_mm: 20,
      depth_mm: 8,
      direction: UP,
      faces: [1],
    };
    const [plain, rich] = recognised({
      pockets: [
        { ...pocket, islands: [], corner_radii_mm: [], accessible: true },
        {
          ...pocket,
          parent: "pocket 0",
          islands: [1, 2],
          corner_radii_mm: [3, 4.25],
          draft_deg: 2,
          accessible: false,
          why: "x",
        },
      ],
    });
    expect(plain).toMatchObject({ size: "1 234.5 × 20", depth: "8", note: "" });
    expect(rich.note).toBe("in pocket 0 · 2 islands · corners R 3, 4.25 · draft 2°");
    expect(rich.why).toBe("x");
  });

  it("keeps inner fillets and rounded edges of one radius apart, and adds up their lengths", () => {
    const blend = (name: string, concave: boolean, length_mm: number, face: number) => ({
      name,
      concave,
      radius_mm: 2,
      length_mm,
      faces: [face],
    });
    const rows = recognised({ blends: [blend("a", true, 10, 1), blend("b", false, 5, 2), blend("c", true, 2.5, 3)] });
    expect(rows.map((r) => [r.name, r.what, r.note])).toEqual([
      ["2 fillets", "inner fillet", "12.5 mm long"],
      ["b", "rounded edge", "5 mm long"],
    ]);
    expect(rows[0].faces).toEqual([1, 3]);
  });

  it("calls an undercut out of reach, whatever else", () => {
    const [row] = recognised({
      undercuts: [{ name: "undercut 1", area_mm2: 12, direction: UP, faces: [5], why: "from above." }],
    });
    expect(row).toMatchObject({ accessible: false, why: "from above.", size: "12 mm²" });
  });

  it("has a row for every kind, and none for nothing", () => {
    expect(recognised({})).toEqual([]);
    const rows = recognised({
      bosses: [
        {
          name: "boss 1",
          round: true,
          length_mm: 9,
          width_mm: 9,
          height_mm: 4,
          island_of: "pocket 1",
          direction: UP,
          faces: [1],
        },
      ],
      chamfers: [{ name: "chamfer 1", width_mm: 1, angle_deg: 45, length_mm: 80, faces: [2] }],
      flat_areas: [{ name: "flat area 1", area_mm2: 300, level_mm: -2, direction: UP, faces: [3] }],
      outer_profiles: [{ name: "outer profile 1", length_mm: 320, height_mm: 20, direction: UP, faces: [4] }],
      draft_walls: [{ name: "walls 1", draft_deg: 3, direction: UP, faces: [5], accessible: true }],
    });
    expect(rows.map((r) => `${r.what}: ${r.size} ${r.note}`.trim())).toEqual([
      "round boss: ⌀9 island of pocket 1",
      "chamfer: 1 × 45° 80 mm long",
      "flat area: 300 mm² level -2",
      "outer profile: 320 along it",
      "walls with draft: 3°",
    ]);
  });
});

describe("a direction in words", () => {
  it("is an axis with its sign, where it is one", () => {
    for (const [name, way] of Object.entries(LOOKS)) if (way) expect(arrow(way)).toBe(name);
  });
  it("is three numbers elsewhere, and nothing for none", () => {
    expect(arrow([0.6, 0, 0.8])).toBe("0.6, 0, 0.8");
    expect(arrow(null)).toBe("");
  });
});
