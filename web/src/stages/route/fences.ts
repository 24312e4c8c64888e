/** The sketches that fence an operation: parameter, label, what stands there when none is chosen. */
export const FENCES = [
  ["stay_in", "Stay inside of", "everywhere"],
  ["keep_out", "Keep out of", "nothing"],
] as const;
