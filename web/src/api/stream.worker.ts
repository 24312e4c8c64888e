/** The one stream of events of a browser, whatever the number of its tabs: HTTP/1.1 lets a browser have six in all. */
import { KINDS, type Told } from "./happenings";

const tabs = new Set<MessagePort>();
const AGAIN_MS = 3000;

function tell(told: Told) {
  for (const port of tabs) port.postMessage(told);
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

addEventListener("connect", (e) => {
  const port = (e as MessageEvent).ports[0];
  tabs.add(port);
  // A tab that is closed says so; one that ends otherwise costs a message that nobody reads.
  port.onmessage = () => tabs.delete(port);
  port.start();
});
