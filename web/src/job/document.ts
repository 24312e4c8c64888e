/** The job document as the server has it; its types are made from the server's own model. */
import type { Schemas } from "../api/client";

/** A document as it is served: every field is there. */
type Whole<T> = T extends object ? { [K in keyof T]-?: Whole<T[K]> } : T;

export type Vec = [number, number, number];
export type JobDocument = Whole<Schemas["Job"]>;
export type Tool = JobDocument["tools"][number];
export type Cutter = Tool["cutter"];
export type HolderSection = Tool["holder"][number];
export type Cell = JobDocument["cells"][number];
export type Setup = JobDocument["setups"][number];
export type Up = Setup["up"];
export type Place = Setup["fixtures"][number]["place"];
export type Fixture = Setup["fixtures"][number];
export type Stock = Setup["stock"];
export type Measurement = JobDocument["measurements"][number];
export type MeasureSpot = Measurement["spots"][number];
export type Selection = JobDocument["selections"][number];
export type Selector = Selection["items"][number];
export type FaceReference = Whole<Schemas["FaceReference"]>;
export type FaceRule = Whole<Schemas["FaceRule"]>;
export type EdgeReference = Whole<Schemas["EdgeReference"]>;
export type FaceSelector = FaceReference | FaceRule;
export type Sketch = JobDocument["sketches"][number];
export type SketchItem = Sketch["items"][number];
export type Operation = JobDocument["operations"][number];
export type Params = Operation["params"];
export type Target = NonNullable<AnyOf<Params>["targets"]>[number];

/** Fields of any member of a union, each there or not. */
export type AnyOf<U> = {
  [K in U extends unknown ? keyof U : never]?: U extends unknown ? (K extends keyof U ? U[K] : never) : never;
};
/** Fields by name, for forms that are made from a declaration. */
export type Fields = Record<string, unknown>;

export const toolLabel = (t: Tool | undefined): string => {
  if (!t) return "–";
  const c = t.cutter;
  return t.name || `${c.kind} ⌀${c.diameter_mm}${c.kind === "bull-nose" ? ` r${c.corner_radius_mm}` : ""}`;
};

/** A name that is not taken yet: `clamp`, `clamp-2`, … */
export const freshId = (base: string, taken: string[]): string => {
  const plain = base.toLowerCase().replace(/[^a-z0-9]+/g, "-");
  for (let n = 1; ; n++) {
    const id = n === 1 ? plain : `${plain}-${n}`;
    if (!taken.includes(id)) return id;
  }
};
