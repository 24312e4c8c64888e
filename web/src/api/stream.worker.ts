/** The one stream of events of a browser, whatever the number of its tabs: HTTP/1.1 lets a browser have six in all. */
import { askOnce } from "./asking";
import { KINDS, type Told } from "./happenings";
import type { Heard, Said } from "./tabs";

const tabs = new Set<MessagePort>();
const AGAIN_MS = 3000;
const born = Math.random().toString(36).slice(2);
let count = 0;

const say = (port: MessagePort, heard: Heard) => port.postMessage(heard);

function tell(told: Told) {
  const mark = `${born} ${++count}`;
  for (const port of tabs) say(port, { told, mark });
}

function listen() {
  const source = new EventSource("/api/events");
  for (const kind of KINDS)
    source.addEventListener(kind, (e: MessageEvent) => tell({ kind, data: JSON.parse(e.data) }));
  // A browser comes back by itself after a break, but not after a refusal: somebody may have to sign in first.
  source.addEventListener("error", () => {
    if (source.readyState === EventSource.CLOSED) setTimeout(listen, AGAIN_MS);
  });
}
listen();

const answerTo = askOnce(async (url) => {
  const answer = await fetch(url, { cache: "no-store" });
  return { status: answer.status, type: answer.headers.get("content-type") ?? "", text: await answer.text() };
});

addEventListener("connect", (e) => {
  const port = (e as MessageEvent).ports[0];
  tabs.add(port);
  port.onmessage = async ({ data }: MessageEvent<Said>) => {
    // A tab that is closed says so; one that ends otherwise costs a message that nobody reads.
    if (data === "gone") return tabs.delete(port);
    const plain = await answerTo(data.url, data.mark).catch(() => null);
    say(port, { answer: data.ask, plain });
  };
  port.start();
});
