/** What the server tells of. */
/** `hello`: what was missed is not known, all is to be looked at again. */
export const KINDS = ["hello", "job", "jobs", "task", "release"] as const;
export type Kind = (typeof KINDS)[number];
export type Happening = { job?: string; state?: string; words?: string };
export type Told = { kind: Kind; data: Happening };
