/** The moment of the proof that is looked at: how many motions have been made. Apart from the rest of the view, since it
 * changes many times a second while it plays, and only few things depend on it. */
import { useSyncExternalStore } from "react";

let moment = 0;
const listeners = new Set<() => void>();

export function setMoment(motions: number) {
  if (motions === moment) return;
  moment = motions;
  listeners.forEach((hear) => hear());
}

const subscribe = (hear: () => void) => {
  listeners.add(hear);
  return () => {
    listeners.delete(hear);
  };
};

export const useMoment = () => useSyncExternalStore(subscribe, () => moment);
