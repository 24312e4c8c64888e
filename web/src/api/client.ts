/** The typed client, made from the server's OpenAPI, and the reader of its typed layout. */
import createClient from "openapi-fetch";
import { askToSignIn } from "../access/signing";
import type { components, paths } from "./schema";
import { askTogether, changedHere } from "./tabs";

export type Schemas = components["schemas"];
export type JobState = Schemas["JobState"];
export type JobStatus = Schemas["JobStatus"];
export type Change = Schemas["Change"];
export type Finding = Schemas["Finding"];
export type ProofSummary = Schemas["ProofSummary"];
export type Scene = Schemas["Scene"];
export type JobHead = Schemas["JobHead"];
export type Problem = { title: string; status: number; detail?: string; problems?: Schemas["ProblemField"][] };

/** What waits for somebody to sign in where the server asks for it, and then asks again. */
const signedIn =
  (send: (request: Request) => Promise<Response>) =>
  async (input: RequestInfo | URL, init?: RequestInit): Promise<Response> => {
    const request = new Request(input, init);
    for (;;) {
      const answer = await send(request.clone());
      if (request.method !== "GET") changedHere();
      if (answer.status !== 401) return answer;
      await askToSignIn();
    }
  };
export const fetchHere = signedIn((request) => fetch(request));

// Answers of the moment pass the cache by: there tabs that ask for the same thing wait for one another.
export const api = createClient<paths>({ baseUrl: "/", fetch: fetchHere, cache: "no-store" });

/** For what many tabs ask after a happening, and of which every change is told: who has heard no more gets the same answer. */
export const together = { fetch: signedIn(askTogether) };

/** An answer that was not what was hoped for, with its problem document. */
export class ProblemError extends Error {
  constructor(public problem: Problem) {
    super(describe(problem));
  }
}

export function describe(problem: Problem): string {
  const parts = (problem.problems ?? []).map((p) => `${p.message} ${p.way_out ?? ""}`.trim());
  return parts.length ? parts.join(" ") : problem.detail || problem.title || "Something went wrong.";
}

/** The data of an answer, or a `ProblemError`. */
export async function take<T>(promise: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await promise;
  } catch {
    throw new ProblemError({
      title: "Fenrik does not answer. Your changes are kept on the server; start it again.",
      status: 0,
    });
  }
  if (answer.error !== undefined || !answer.response.ok) {
    throw new ProblemError(
      (answer.error as Problem) ?? { title: answer.response.statusText, status: answer.response.status },
    );
  }
  return answer.data as T;
}

// Its head is JSON of many kinds; each reader knows its own.
// eslint-disable-next-line @typescript-eslint/no-explicit-any
export type Block = { meta: any; [name: string]: any };

const TYPES = {
  f4: Float32Array,
  f8: Float64Array,
  i4: Int32Array,
  u4: Uint32Array,
  u1: Uint8Array,
  i1: Int8Array,
} as const;

/** Read a block in the typed layout (see docs/layout.md). */
export function decode(buffer: ArrayBuffer): Block {
  const view = new DataView(buffer);
  if (view.getUint32(0, false) !== 0x464e524b) throw new Error("not a block in Fenrik's layout");
  const size = view.getUint32(4, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 8, size)));
  const block: Block = { meta: head.meta };
  for (const a of head.arrays) {
    const count = a.shape.reduce((x: number, y: number) => x * y, 1);
    block[a.name] = new TYPES[a.type as keyof typeof TYPES](buffer, 8 + size + a.offset, count);
  }
  return block;
}

export async function fetchBlock(url: string, signal?: AbortSignal): Promise<Block> {
  const response = await fetchHere(url, { signal });
  if (!response.ok) throw new ProblemError(await response.json());
  return decode(await response.arrayBuffer());
}
