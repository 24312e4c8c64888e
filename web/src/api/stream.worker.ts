/** The one stream of events of a browser, whatever the number of its tabs: HTTP/1.1 lets a browser have six in all. */
import { KINDS, type Told } from "./happenings";

const tabs = new Set<MessagePort>();
const source = new EventSource("/api/events");

function tell(told: Told) {
  for (const port of tabs) port.postMessage(told);
}

for (const kind of KINDS) source.addEventListener(kind, (e: MessageEvent) => tell({ kind, data: JSON.parse(e.data) }));

addEventListener("connect", (e) => {
  const port = (e as MessageEvent).ports[0];
  tabs.add(port);
  // A tab that is closed says so; one that ends otherwise costs a message that nobody reads.
  port.onmessage = () => tabs.delete(port);
  port.start();
});
