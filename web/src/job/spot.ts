/** A place of the part that the view is taken to. */
import { useSyncExternalStore } from "react";
import type { Vec } from "./document";

let spot: Vec | null = null;
const listeners = new Set<() => void>();

export function goTo(place: Vec | null) {
  spot = place;
  listeners.forEach((hear) => hear());
}

const listen = (hear: () => void) => {
  listeners.add(hear);
  return () => {
    listeners.delete(hear);
  };
};

export const useSpot = (): Vec | null => useSyncExternalStore(listen, () => spot);
