/** Playing the proof: which moment comes next, and where to stop. */
import type { Finding } from "../api/client";

export const SPEEDS = [1, 5, 20, 100, 500];

/** Which findings end the playing. */
export type StopOn = "fault" | "attention" | "all" | "none";

/** Number of motions begun at a time: the first that ends at it or later, counted from one. */
export function motionAt(ends: Float64Array, seconds: number): number {
  let a = 0,
    b = ends.length;
  while (a < b) {
    const m = (a + b) >> 1;
    if (ends[m] < seconds) a = m + 1;
    else b = m;
  }
  return Math.min(a + 1, ends.length);
}

/** The moment some seconds of machine time after another, at least one motion on; it ends at the first finding on the
 * way that is to stop it, and at the end. */
export function played(
  ends: Float64Array,
  from: number,
  seconds: number,
  findings: Finding[],
  stopOn: StopOn,
): { moment: number; over: boolean } {
  const here = from > 0 ? ends[Math.min(from, ends.length) - 1] : 0;
  const next = Math.max(motionAt(ends, here + seconds), from + 1);
  const stops = findings
    .filter((f) => f.motion != null && (stopOn === "all" || f.severity === stopOn))
    .map((f) => f.motion! + 1)
    .filter((moment) => moment > from && moment <= next);
  if (stops.length) return { moment: Math.min(...stops), over: true };
  return next >= ends.length ? { moment: ends.length, over: true } : { moment: next, over: false };
}

/** The moment at which the operation that is being made ends (1), or at which the one made last began (-1). */
export function operationEdge(operations: ArrayLike<number>, moment: number, way: 1 | -1): number {
  const n = operations.length;
  let k = Math.max(0, Math.min(moment, n));
  if (way > 0) for (const own = operations[k]; k < n && operations[k] === own;) k++;
  else for (const own = operations[k - 1]; k > 0 && operations[k - 1] === own;) k--;
  return k;
}
