/** Loads along a path: names, units, spread. */
import type { Block } from "../api/client";
import type { LoadName } from "../job/view";

const CUT = 3;

export const LOADS: Record<LoadName, { name: string; unit: string; digits: number }> = {
  engagement: { name: "engagement", unit: "°", digits: 0 },
  chip: { name: "chip thickness", unit: "mm", digits: 3 },
  feed: { name: "feed", unit: "mm/min", digits: 0 },
  removal: { name: "removal", unit: "mm³/s", digits: 0 },
};

export type LoadPlace = { motion: number; engagement_deg: number; in_part: [number, number, number] };
export type LoadTold = {
  most_deg: number;
  target_deg: number | null;
  planned: boolean;
  above: LoadPlace[];
  slot_mm: number;
};

/** The most that is shown on the scale: what all but a five-hundredth of the length stays below. */
export function topOf(block: Block, by: LoadName): number {
  const values = block[by] as Float32Array,
    kinds = block.kinds as Uint8Array,
    lengths = block.lengths as Float32Array;
  const cuts = Array.from(values.keys()).filter((i) => kinds[i] === CUT);
  cuts.sort((a, b) => values[b] - values[a]);
  let over = cuts.reduce((sum, i) => sum + lengths[i], 0) / 500;
  for (const i of cuts) if ((over -= lengths[i]) < 0) return Math.max(values[i], 1e-6);
  return 1e-6;
}

/** How much length of cuts there is in even steps from 0 to the top; the last step takes what is above. */
export function spreadOf(block: Block, by: LoadName, top: number, steps: number): Float64Array {
  const values = block[by] as Float32Array,
    kinds = block.kinds as Uint8Array,
    lengths = block.lengths as Float32Array;
  const out = new Float64Array(steps);
  for (let i = 0; i < values.length; i++)
    if (kinds[i] === CUT) out[Math.min(Math.floor((values[i] / top) * steps), steps - 1)] += lengths[i];
  return out;
}

/** The load of a row in words. */
export function loadWords(
  load: { most_deg: number; target_deg?: number | null; above: number } | null | undefined,
): string {
  if (!load || load.most_deg <= 0) return "";
  const most = `${Math.round(load.most_deg)}°`;
  if (load.target_deg == null) return `peaks at ${most}`;
  if (!load.above) return `held at ${Math.round(load.target_deg)}°`;
  return `peaks at ${most}, ${load.above} ${load.above === 1 ? "place" : "places"}`;
}
