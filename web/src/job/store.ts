/** A value outside of React that components can follow: only those that use it are drawn anew when it changes. */
import { useSyncExternalStore } from "react";

export type Store<T> = { get: () => T; set: (next: T) => void; use: () => T };

export function makeStore<T>(first: T): Store<T> {
  let state = first;
  const listeners = new Set<() => void>();
  const get = () => state;
  const subscribe = (hear: () => void) => {
    listeners.add(hear);
    return () => {
      listeners.delete(hear);
    };
  };
  return {
    get,
    set: (next) => {
      if (Object.is(next, state)) return;
      state = next;
      listeners.forEach((hear) => hear());
    },
    use: () => useSyncExternalStore(subscribe, get),
  };
}
