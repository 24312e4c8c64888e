/** Whether anything moves in the view: pictures are then drawn with fewer dots and triangles, and sharp when all rests. */
import { useSyncExternalStore } from "react";

const REST_MS = 250,
  HELD_MS = 600;
/** Dots for each of the screen's: more at rest, which smooths all edges and costs one picture; fewer while things move. */
const SHARP = 1.5,
  MOVING = 0.5;

let timer = 0,
  held = false;
let active = false;
const listeners = new Set<() => void>();

function turn(to: boolean) {
  if (active === to) return;
  active = to;
  listeners.forEach((hear) => hear());
}

/** To be called with each step of a motion. */
export function move() {
  window.clearTimeout(timer);
  timer = window.setTimeout(() => turn(false), held ? HELD_MS : REST_MS);
  turn(true);
}

/** To be called when a hand takes hold of the view, and when it lets go. While it holds, the next step may be late only
 * because the picture before it took long: a sharp one then, which takes longer still, would make all that follow late. */
export function hold(on: boolean) {
  held = on;
  if (active) move();
}

export const isMoving = () => active;

/** Calls back when a motion begins and when it rests; gives the way to stop that. */
export function onMotion(hear: () => void): () => void {
  listeners.add(hear);
  return () => {
    listeners.delete(hear);
  };
}

/** How many dots to draw for each of the screen's, now. */
export const useDots = () => (useSyncExternalStore(onMotion, isMoving) ? MOVING : SHARP);
