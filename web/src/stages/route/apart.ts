import { FENCES } from "./fences";

/** Parameters that are picked or have a part of the sheet of their own. */
export const APART: string[] = [
  "strategy",
  "boundary",
  "targets",
  "top_pick",
  "bottom_pick",
  ...FENCES.map(([name]) => name),
];
