import type { Cutter } from "../../job/document";

export const fresh = (number: number) => ({
  number,
  cutter: { kind: "flat", diameter_mm: 10, flute_length_mm: 25, flutes: 3 },
  stick_out_mm: 40,
  holder: [{ lower_diameter_mm: 24, upper_diameter_mm: 30, height_mm: 30 }],
});

/** Numbers that a new kind of cutter needs, from the diameter that is there. */
export const seedFor = (c: Cutter): Record<string, unknown> => {
  const d = c.diameter_mm,
    r = (v: number) => Math.round(v * 100) / 100;
  return {
    diameter_mm: d,
    flute_length_mm: Math.max(c.flute_length_mm, r(1.2 * d)),
    corner_radius_mm: r(d * 0.1),
    tip_diameter_mm: r(d * 0.1),
    neck_diameter_mm: r(d * 0.55),
    pitch_mm: r(Math.max(d * 0.15, 0.2)),
    pilot_diameter_mm: r(d * 0.4),
    pilot_length_mm: r(d * 0.5),
    flank_radius_mm: r(d * 8),
    widest_at_mm: r(d * 1.1),
    places: [
      [0, 0, 0],
      [d / 2, 0, 0],
      [d / 2, r(1.2 * d), 0],
    ],
  };
};
