/** What is picked and where the proof stands; shared by viewport, sheet and bench, and kept in the address. */
import { createContext, useContext } from "react";
import type { Vec } from "./document";

/** What a click in the viewport is for, beside looking. */
export type Purpose =
  | ""
  | "up"
  | "up edge"
  | "up points"
  | "up hole"
  | "x along"
  | "vertex"
  | "hole centre"
  | "boundary"
  | "measure"
  | "seat"
  | "sketch edges";
/** How much a click takes. */
export type Reach =
  "face" | "edge" | "boundary" | "chain" | "smooth" | "radius" | "level" | "colour" | "surface" | "feature";

export type View = {
  stage: string;
  setup: string;
  tool: number | null;
  rows: number[];
  deviation: boolean;
  faces: number[];
  edges: number[];
  /** Where the last click hit, in part coordinates. */
  place: Vec | null;
  picking: Purpose;
  reach: Reach;
  /** Faces that something outside the viewport points at (a feature, a change). */
  lit: number[];
  sketch: string;
  fixture: string;
  /** Changes the view; the moment of the proof too (see `moment.ts`). */
  set: (change: Partial<Omit<View, "set">> & { motion?: number }) => void;
};

export const ViewContext = createContext<View | null>(null);

export function useView(): View {
  const view = useContext(ViewContext);
  if (!view) throw new Error("outside a job");
  return view;
}
