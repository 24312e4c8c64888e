/** Where in the job one is: stage, setup, tool, rows; kept in the address. What is picked: see `picking.ts`. */
import { createContext, useContext } from "react";

export type View = {
  stage: string;
  setup: string;
  tool: number | null;
  rows: number[];
  deviation: boolean;
  /** Whether the part shows what the rows leave on it. */
  leftOver: boolean;
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
