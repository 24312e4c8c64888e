/** How machine bodies are looked at: whether the machine moves or the part stays still, which bodies are ghosted or hidden,
 * where the arm was put by hand, and what the path is coloured by. */
import { makeStore } from "./store";

export type Shown = "whole" | "ghosted" | "hidden";
export type Paint = "plain" | "singular" | "room" | "clearance";
export type Moving = {
  machineMoves: boolean;
  bodies: Record<string, Shown>;
  /** Values of all joints that were put by hand; null: those of the moment. */
  joints: number[] | null;
  /** The row of the arm's way that is looked at. */
  row: number;
  paint: Paint;
};

const moving = makeStore<Moving>({ machineMoves: true, bodies: {}, joints: null, row: 0, paint: "plain" });
export const getMoving = moving.get;
export const useMoving = moving.use;
export const setMoving = (change: Partial<Moving>) => moving.set({ ...moving.get(), ...change });
