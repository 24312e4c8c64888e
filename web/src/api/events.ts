/** What happens at the server, told to every tab by one stream. */
import { useEffect } from "react";
import { KINDS, type Told } from "./happenings";

type Hear = (told: Told) => void;

const hearers = new Set<Hear>();
let leave: (() => void) | null = null;
/** What happened while nobody saw this tab: the latest of each job and task. */
const missed = new Map<string, Told>();

/** A tab that nobody sees does no work; when it is looked at, it hears what it missed. */
function hear(told: Told) {
  if (!document.hidden) return hearers.forEach((h) => h(told));
  const about = [told.kind, told.data.job, told.data.task].join(" ");
  missed.delete(about);
  missed.set(about, told);
}
document.addEventListener("visibilitychange", () => {
  if (document.hidden) return;
  const all = [...missed.values()];
  missed.clear();
  all.forEach(hear);
});

/** Hear through the worker that all tabs share; alone where the browser has no such workers. */
function join(): () => void {
  if (typeof SharedWorker === "undefined") {
    const source = new EventSource("/api/events");
    for (const kind of KINDS)
      source.addEventListener(kind, (e: MessageEvent) => hear({ kind, data: JSON.parse(e.data) }));
    return () => source.close();
  }
  const { port } = new SharedWorker(new URL("./stream.worker.ts", import.meta.url), {
    type: "module",
    name: "fenrik-events",
  });
  port.onmessage = (e: MessageEvent<Told>) => hear(e.data);
  const close = () => port.postMessage("gone");
  window.addEventListener("pagehide", close);
  return () => {
    window.removeEventListener("pagehide", close);
    close();
    port.close();
  };
}

/** Call `hear` for everything that happens while the component is shown. */
export function useEvents(hear: Hear) {
  useEffect(() => {
    hearers.add(hear);
    leave ??= join();
    return () => {
      hearers.delete(hear);
      if (hearers.size > 0) return;
      leave?.();
      leave = null;
    };
  }, [hear]);
}
