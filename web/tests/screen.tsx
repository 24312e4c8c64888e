/** What tests of components share: a page in which they can stand, an open job, and a server that answers as told. */
import { answerWith } from "./globals";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, within } from "@testing-library/react";
import type { ReactNode } from "react";
import { vi } from "vitest";
import type { JobDocument } from "../src/job/document";
import { ActsContext, JobContext, StandingContext, type JobApi, type JobStanding } from "../src/job/useJob";
import { ViewContext, type View } from "../src/job/view";

export const pageOf =
  (client = new QueryClient({ defaultOptions: { queries: { retry: false } } })) =>
  ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>
      <MantineProvider env="test">{children}</MantineProvider>
    </QueryClientProvider>
  );

export const show = (what: ReactNode, client?: QueryClient) => render(what, { wrapper: pageOf(client) });

export const view = (rest: Partial<View> = {}): View => ({
  stage: "proof",
  setup: "a",
  tool: null,
  rows: [],
  deviation: false,
  leftOver: false,
  load: "",
  stock: "",
  thick: false,
  sketch: "",
  fixture: "",
  proposing: "",
  set: vi.fn(),
  ...rest,
});

export const job = (
  doc: Partial<JobDocument> = {},
  rest: Partial<JobApi & JobStanding> = {},
): JobApi & JobStanding => ({
  id: "j",
  doc: { tools: [], setups: [], operations: [], sketches: [], ...doc } as never,
  version: 1,
  status: undefined,
  note: null,
  saving: false,
  setNote: vi.fn(),
  edit: vi.fn(async () => ""),
  run: vi.fn(async () => ""),
  undo: vi.fn(),
  redo: vi.fn(),
  compute: vi.fn(),
  cancel: vi.fn(),
  reload: vi.fn(),
  ...rest,
});

export const inJob = (what: ReactNode, j: JobApi & JobStanding, v: View, client?: QueryClient) =>
  show(
    <JobContext value={j}>
      <ActsContext value={j}>
        <StandingContext value={j}>
          <ViewContext value={v}>{what}</ViewContext>
        </StandingContext>
      </ActsContext>
    </JobContext>,
    client,
  );

/** Answers for "METHOD /path" (without the query); what was asked for is kept in `asked`. */
export function server(answers: Record<string, (body: unknown, url: URL) => unknown>) {
  const asked: { what: string; body: unknown }[] = [];
  answerWith(async (request) => {
    const url = new URL(request.url),
      what = `${request.method} ${url.pathname}`,
      text = await request.text(),
      json = (request.headers.get("content-type") ?? "").includes("json"),
      body = text && json ? JSON.parse(text) : text || undefined;
    asked.push({ what, body });
    const answer = await answers[what]?.(body, url);
    if (answer === undefined) return Response.json({ title: `nothing at ${what}`, status: 404 }, { status: 404 });
    return answer instanceof Response ? answer : Response.json(answer);
  });
  return asked;
}

/** Opens a list by its label and takes a choice. */
export async function choose(label: string | RegExp, choice: string | RegExp) {
  fireEvent.click(screen.getByRole("combobox", { name: label }));
  const list = await screen.findByRole("listbox", { name: label, hidden: true });
  fireEvent.click(within(list).getByRole("option", { name: choice, hidden: true }));
}
