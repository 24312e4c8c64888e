/** The worker that all tabs of a browser share: it hears for them, and asks once what many of them ask. */
import { KINDS, type Told } from "./happenings";

/** What a tab says to the worker. `mark`: what it heard last. */
export type Said = "gone" | { ask: number; url: string; mark: string };
/** What the worker says to a tab; `plain` is null where nobody answered. */
export type Heard = { told: Told; mark: string } | { answer: number; plain: Plain | null };
export type Plain = { status: number; type: string; text: string };

const PATIENCE_MS = 30_000;

let port: MessagePort | null = null;
/** What was heard last; empty once this tab has changed something itself, which another's answer may not know of. */
let mark = "";
let asked = 0;
const waiting = new Map<number, (plain: Plain | null) => void>();

export function changedHere() {
  mark = "";
}

/** Hear through the worker; alone where the browser has no such workers. */
export function join(hear: (told: Told) => void): () => void {
  if (typeof SharedWorker === "undefined") {
    const source = new EventSource("/api/events");
    for (const kind of KINDS)
      source.addEventListener(kind, (e: MessageEvent) => hear({ kind, data: JSON.parse(e.data) }));
    return () => source.close();
  }
  const shared = new SharedWorker(new URL("./stream.worker.ts", import.meta.url), {
    type: "module",
    name: "fenrik-events",
  }).port;
  const say = (said: Said) => shared.postMessage(said);
  shared.onmessage = ({ data }: MessageEvent<Heard>) => {
    if ("answer" in data) return waiting.get(data.answer)?.(data.plain);
    mark = data.mark;
    hear(data.told);
  };
  port = shared;
  const close = () => say("gone");
  window.addEventListener("pagehide", close);
  return () => {
    window.removeEventListener("pagehide", close);
    close();
    shared.close();
    port = null;
  };
}

/**
 * Ask for what other tabs ask for after the same happening, once for all. A tab that has changed something itself
 * asks alone until it hears of it; and so does one whose worker has not answered for long.
 */
export async function askTogether(request: Request): Promise<Response> {
  if (!port || !mark) return fetch(request);
  const ask = ++asked;
  const said: Said = { ask, url: request.url, mark };
  port.postMessage(said);
  let tired: ReturnType<typeof setTimeout> | undefined;
  try {
    const plain = await new Promise<Plain | null>((answered) => {
      waiting.set(ask, answered);
      tired = setTimeout(() => answered(null), PATIENCE_MS);
    });
    return plain
      ? new Response(plain.text || null, { status: plain.status, headers: { "content-type": plain.type } })
      : await fetch(request);
  } finally {
    clearTimeout(tired);
    waiting.delete(ask);
  }
}
