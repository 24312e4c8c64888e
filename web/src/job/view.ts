/** Where in the job one is: stage, setup, tool, rows; kept in the address. What is picked: see `picking.ts`. */
import { createContext, useContext } from "react";

export const LOAD_NAMES = ["engagement", "chip", "feed", "removal"] as const;
export type LoadName = (typeof LOAD_NAMES)[number];

export type View = {
  stage: string;
  setup: string;
  tool: number | null;
  rows: number[];
  deviation: boolean;
  /** Whether the part shows what the rows leave on it. */
  leftOver: boolean;
  /** What the cuts of a row are coloured by; empty: by the kind of motion. */
  load: "" | LoadName;
  /** Whether the stock before or after the selected row is shown, and coloured by its thickness over the part. */
  stock: "" | "before" | "after";
  thick: boolean;
  sketch: string;
  fixture: string;
  /** Whether a route is being proposed, and for which sides. */
  proposing: "" | "this" | "all";
  /** Changes the view; the moment of the proof too (see `moment.ts`). */
  set: (change: Partial<Omit<View, "set">> & { motion?: number }) => void;
};

export const ViewContext = createContext<View | null>(null);

export function useView(): View {
  const view = useContext(ViewContext);
  if (!view) throw new Error("outside a job");
  return view;
}
