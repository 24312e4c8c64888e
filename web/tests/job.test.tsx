// @vitest-environment jsdom
import { pageOf, server } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { useJobApi } from "../src/job/useJob";

/** The server's events, sent by the test. */
class Events {
  static latest: Events;
  heard = new Map<string, (e: MessageEvent) => void>();
  closed = false;
  constructor() {
    Events.latest = this;
  }
  addEventListener(kind: string, hear: (e: MessageEvent) => void) {
    this.heard.set(kind, hear);
  }
  close() {
    this.closed = true;
  }
  send(kind: string, data: unknown) {
    act(() => this.heard.get(kind)!({ data: JSON.stringify(data) } as MessageEvent));
  }
}

let version = 1;
const state = (name = "Bracket") => ({ id: "j", version, revision: version, document: { name } });

const open = async (answers: Parameters<typeof server>[0] = {}) => {
  const asked = server({
    "GET /api/jobs/j": () => state(),
    "GET /api/jobs/j/status": () => ({ operations: [], setups: [], tasks: [] }),
    ...answers,
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const hook = renderHook(() => useJobApi("j"), { wrapper: pageOf(client) });
  await waitFor(() => expect(hook.result.current.standing.status).toBeTruthy());
  const count = (what: string) => asked.filter((a) => a.what === what).length;
  return { hook, asked, count, job: () => hook.result.current.job!, standing: () => hook.result.current.standing };
};

/** What was answered has had time to be drawn. */
const settled = () => act(() => new Promise<void>((r) => setTimeout(r, 50)));

beforeEach(() => {
  version = 1;
  vi.stubGlobal("EventSource", Events);
});
afterEach(cleanup);

describe("the open job", () => {
  it("is shown as the server has it", async () => {
    const { job } = await open();
    expect(job().doc).toEqual({ name: "Bracket" });
    expect(job().version).toBe(1);
  });

  it("is shown changed at once from the answer, without being fetched again", async () => {
    const { job, asked, count } = await open({
      "PATCH /api/jobs/j": () => {
        version = 2;
        return state("Lantern");
      },
    });
    let said = "?";
    await act(async () => void (said = await job().edit([{ path: "name", value: "Lantern", was: "Bracket" }], "name")));
    expect(said).toBe("");
    await waitFor(() => expect(job().doc).toEqual({ name: "Lantern" }));
    expect(count("GET /api/jobs/j")).toBe(1);
    expect(asked.find((a) => a.what === "PATCH /api/jobs/j")!.body).toEqual({
      label: "name",
      changes: [{ op: "set", check: true, path: "name", value: "Lantern", was: "Bracket" }],
    });
  });

  it("asks for what was there only where a value is set", async () => {
    const { job, asked } = await open({ "PATCH /api/jobs/j": () => state() });
    await act(async () => {
      await job().edit(
        [
          { op: "add", path: "operations", value: { number: 10 } },
          { path: "a", value: 1, check: false },
        ],
        "two",
      );
    });
    const sent = asked.find((a) => a.what === "PATCH /api/jobs/j")!.body as { changes: { check: boolean }[] };
    expect(sent.changes.map((c) => c.check)).toEqual([false, false]);
  });

  it("says why a change was refused, keeps what stands, and looks at the server's anew", async () => {
    const { job, count, standing } = await open({
      "PATCH /api/jobs/j": () =>
        Response.json(
          {
            title: "refused",
            status: 409,
            problems: [{ field: "name", message: "Somebody changed it.", way_out: "" }],
          },
          { status: 409 },
        ),
    });
    let said = "";
    await act(async () => void (said = await job().edit([{ path: "name", value: "x", was: "y" }], "name")));
    expect(said).toBe("Somebody changed it.");
    expect(standing().note).toEqual({ text: "Somebody changed it.", ok: false });
    expect(job().doc).toEqual({ name: "Bracket" });
    await waitFor(() => expect(count("GET /api/jobs/j")).toBe(2));
    act(() => job().setNote(null));
    expect(standing().note).toBeNull();
  });

  it("says so while something is being kept", async () => {
    let answer: (response: Response) => void = () => undefined;
    const { job, standing } = await open({
      "POST /api/jobs/j/undo": () => new Promise<Response>((r) => (answer = r)) as never,
    });
    act(() => job().undo());
    await waitFor(() => expect(standing().saving).toBe(true));
    await act(async () => answer(Response.json(state("Before"))));
    await waitFor(() => expect(standing().saving).toBe(false));
  });

  it("stays as it was changed here where an older state comes in later", async () => {
    const held: ((response: Response) => void)[] = [];
    let hold = false;
    const { hook, job, count } = await open({
      "GET /api/jobs/j": () => (hold ? new Promise<Response>((r) => held.push(r)) : state()) as never,
      "PATCH /api/jobs/j": () => ({ ...state("Lantern"), version: 3 }),
    });
    hold = true;
    act(() => hook.result.current.acts.reload());
    await waitFor(() => expect(count("GET /api/jobs/j")).toBe(2));
    await act(async () => void (await job().edit([{ path: "name", value: "Lantern", was: "Bracket" }], "name")));
    await act(async () => held[0](Response.json({ ...state("Older"), version: 2 })));
    await settled();
    expect(job().doc).toEqual({ name: "Lantern" });
  });

  it("is the later of two changes whose answers come in the other order", async () => {
    const held: ((response: Response) => void)[] = [];
    const { job } = await open({ "PATCH /api/jobs/j": () => new Promise<Response>((r) => held.push(r)) as never });
    const both = ["First", "Second"].map((value) => job().edit([{ path: "name", value, check: false }], "name"));
    await waitFor(() => expect(held).toHaveLength(2));
    await act(async () => held[1](Response.json({ ...state("Second"), version: 3 })));
    await act(async () => held[0](Response.json({ ...state("First"), version: 2 })));
    await act(async () => void (await Promise.all(both)));
    await settled();
    expect(job().doc).toEqual({ name: "Second" });
  });

  it("computes one setup's rows, with the proof", async () => {
    const { job, asked } = await open({ "POST /api/jobs/j/compute": () => ({ task: "t" }) });
    await act(async () => job().compute("top", [10, 20]));
    await waitFor(() =>
      expect(asked.find((a) => a.what === "POST /api/jobs/j/compute")?.body).toEqual({
        setup: "top",
        operations: [10, 20],
        proof: true,
      }),
    );
  });
});

describe("what the server tells", () => {
  it("draws no status anew that only counts a version on", async () => {
    let asked = 0;
    const { standing, count } = await open({
      "GET /api/jobs/j/status": () => ({ version: ++asked, operations: [{ number: 10 }], setups: [], tasks: [] }),
    });
    const before = standing();
    version = 2;
    Events.latest.send("job", { job: "j", version });
    await waitFor(() => expect(count("GET /api/jobs/j/status")).toBe(2));
    await new Promise((r) => setTimeout(r, 30));
    expect(standing()).toBe(before);
  });

  it("is looked at when it is about this job", async () => {
    const { count } = await open();
    const [jobs, statuses] = [count("GET /api/jobs/j"), count("GET /api/jobs/j/status")];
    Events.latest.send("job", { job: "another", kind: "job" });
    await new Promise((r) => setTimeout(r, 30));
    expect(count("GET /api/jobs/j")).toBe(jobs);
    Events.latest.send("task", { job: "j", kind: "task", state: "running", words: "" });
    await waitFor(() => expect(count("GET /api/jobs/j/status")).toBe(statuses + 1));
    expect(count("GET /api/jobs/j")).toBe(jobs);
    Events.latest.send("job", { job: "j", kind: "job" });
    await waitFor(() => expect(count("GET /api/jobs/j")).toBe(jobs + 1));
  });

  it("is said when a task failed", async () => {
    const { standing } = await open();
    Events.latest.send("task", { job: "j", kind: "task", state: "failed", words: "Tool 3 is missing." });
    await waitFor(() => expect(standing().note).toEqual({ text: "Tool 3 is missing.", ok: false }));
  });

  it("is said when a task failed while nobody saw the tab", async () => {
    const { standing } = await open();
    const hidden = vi.spyOn(document, "hidden", "get").mockReturnValue(true);
    const said = (state: string, words: string) => ({ job: "j", task: "t", kind: "task", state, words });
    Events.latest.send("task", said("running", "Row 10"));
    Events.latest.send("task", said("failed", "Tool 3 is missing."));
    expect(standing().note).toBeNull();
    hidden.mockRestore();
    act(() => void document.dispatchEvent(new Event("visibilitychange")));
    await waitFor(() => expect(standing().note).toEqual({ text: "Tool 3 is missing.", ok: false }));
  });

  it("is not asked for again where this tab knows the change already", async () => {
    const { count } = await open();
    const asked = count("GET /api/jobs/j/status");
    Events.latest.send("job", { kind: "job", job: "j", version: 1 });
    await waitFor(() => expect(count("GET /api/jobs/j/status")).toBe(asked + 1));
    expect(count("GET /api/jobs/j")).toBe(1);
    Events.latest.send("job", { kind: "job", job: "j", version: 2 });
    await waitFor(() => expect(count("GET /api/jobs/j")).toBe(2));
  });

  it("is asked for anew after the line was broken", async () => {
    const { count } = await open();
    Events.latest.send("hello", {});
    await waitFor(() => expect(count("GET /api/jobs/j")).toBe(2));
  });

  it("is not heard any more when the job is left", async () => {
    const { hook } = await open();
    hook.unmount();
    expect(Events.latest.closed).toBe(true);
  });
});

it("says what is wrong where a job is not there", async () => {
  server({});
  const hook = renderHook(() => useJobApi("gone"), { wrapper: pageOf() });
  await waitFor(() => expect(hook.result.current.error?.message).toContain("nothing at GET /api/jobs/gone"));
  expect(hook.result.current.job).toBeNull();
});
