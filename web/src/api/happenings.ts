/** What the server tells of. */
import type { components, paths } from "./schema";

/** `hello`: what was missed is not known, all is to be looked at again. */
export type Kind = paths["/api/events"]["get"]["responses"][200]["content"]["text/event-stream"];
const ALL: Record<Kind, true> = { hello: true, job: true, jobs: true, task: true, release: true, head: true };
export const KINDS = Object.keys(ALL) as Kind[];
/** `head`: what the list shows of the job; null: it is deleted; missing: to be asked for. */
export type Happening = {
  job?: string;
  task?: string;
  version?: number;
  state?: string;
  words?: string;
  head?: components["schemas"]["JobHead"] | null;
};
export type Told = { kind: Kind; data: Happening };
