/** What is picked in the part, and what a click in the view is for: one store for view, sheet and bench. */
import { useEffect, useRef } from "react";
import type { Vec } from "./document";
import { makeStore } from "./store";

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

export type Picks = {
  purpose: Purpose;
  reach: Reach;
  faces: number[];
  edges: number[];
  /** Where the last click hit, in part coordinates. */
  place: Vec | null;
  /** Faces that something outside the viewport points at (a feature, a change). */
  lit: number[];
};
const NOTHING: Picks = { purpose: "", reach: "face", faces: [], edges: [], place: null, lit: [] };

export const picks = makeStore(NOTHING);
export const usePicks = picks.use;
export const pick = (change: Partial<Picks>) => picks.set({ ...picks.get(), ...change });
/** Another job is opened: nothing of it is picked. */
export const pickNothing = () => pick(NOTHING);

/** A click that does not pick: a place on the part, on a fixture (by its id), or a mark of the view. */
export type Click = { on: string; face: number; point: Vec };
export const PART = "part",
  MARK = "a mark";
const takers = new Set<(click: Click) => void>();

/** Hand a click to those who wait for one. */
export const giveClick = (click: Click) => takers.forEach((take) => take(click));

export function useClicks(take: (click: Click) => void) {
  const latest = useRef(take);
  useEffect(() => {
    latest.current = take;
  });
  useEffect(() => {
    const hear = (click: Click) => latest.current(click);
    takers.add(hear);
    return () => {
      takers.delete(hear);
    };
  }, []);
}

let towardsEye: Vec = [0, 0, 1];
/** From where the view looks, in part coordinates. */
export const keepEye = (direction: Vec) => {
  towardsEye = direction;
};
export const eyeDirection = () => towardsEye;
