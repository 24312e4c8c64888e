/** What the server tells of. */
import type { JobHead } from "./client";

/** `hello`: what was missed is not known, all is to be looked at again. */
export const KINDS = ["hello", "job", "jobs", "task", "release", "head"] as const;
export type Kind = (typeof KINDS)[number];
/** `head`: what the list shows of the job; null: it is deleted; missing: to be asked for. */
export type Happening = {
  job?: string;
  task?: string;
  version?: number;
  state?: string;
  words?: string;
  head?: JobHead | null;
};
export type Told = { kind: Kind; data: Happening };
