/** What happens at the server, told to every tab by one stream. */
import { useEffect } from "react";
import type { Told } from "./happenings";
import { join } from "./tabs";

type Hear = (told: Told) => void;

const hearers = new Set<Hear>();
let leave: (() => void) | null = null;
/** What happened while nobody saw this tab: the latest of each job and task. */
const missed = new Map<string, Told>();

/** A tab that nobody sees does no work; when it is looked at, it hears what it missed. */
function hearAll(told: Told) {
  if (!document.hidden) return hearers.forEach((h) => h(told));
  const about = [told.kind, told.data.job, told.data.task].join(" ");
  missed.delete(about);
  missed.set(about, told);
}
document.addEventListener("visibilitychange", () => {
  if (document.hidden) return;
  const all = [...missed.values()];
  missed.clear();
  all.forEach(hearAll);
});

/** Call `hear` for everything that happens while the component is shown. */
export function useEvents(hear: Hear) {
  useEffect(() => {
    hearers.add(hear);
    leave ??= join(hearAll);
    return () => {
      hearers.delete(hear);
      if (hearers.size > 0) return;
      leave?.();
      leave = null;
    };
  }, [hear]);
}
