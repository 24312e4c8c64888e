/** What is picked and where the proof stands; shared by viewport, sheet and bench, and kept in the address. */
import { createContext, useContext } from "react";

export type View = {
  stage: string;
  setup: string;
  tool: number | null;
  rows: number[];
  motion: number;
  deviation: boolean;
  faces: number[];
  /** What a click in the viewport is for, beside looking. */
  picking: "" | "up" | "vertex" | "hole centre" | "boundary";
  set: (change: Partial<Omit<View, "set">>) => void;
};

export const ViewContext = createContext<View | null>(null);

export function useView(): View {
  const view = useContext(ViewContext);
  if (!view) throw new Error("outside a job");
  return view;
}
