/** What a browser has and the pages of tests have not; to be imported before anything of the app. */
import { configure } from "@testing-library/react";

// What a test waits for may take its time: two cores do other things beside.
configure({ asyncUtilTimeout: 20_000 });

const Plain = globalThis.Request;

/** Addresses count from the page, as in a browser. */
class FromHere extends Plain {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://here") : input, init);
  }
}

export let answering: (request: Request) => Promise<Response> = async () => Response.error();
export const answerWith = (answer: typeof answering) => (answering = answer);

Object.assign(globalThis, {
  Request: FromHere,
  fetch: (input: RequestInfo, init?: RequestInit) =>
    answering(input instanceof Plain ? input : new FromHere(input, init)),
  ResizeObserver: class {
    observe() {}
    unobserve() {}
    disconnect() {}
  },
});
if (typeof window !== "undefined") {
  window.matchMedia ??= ((media: string) => ({
    matches: false,
    media,
    addEventListener() {},
    removeEventListener() {},
  })) as never;
  window.HTMLElement.prototype.scrollIntoView = () => undefined;
}
