// @vitest-environment jsdom
import { server } from "./screen";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { askOnce } from "../src/api/asking";
import { api, together, type JobState } from "../src/api/client";
import { type Heard, join, type Plain, type Said } from "../src/api/tabs";

const plain = (text: string, status = 200): Plain => ({ status, type: "application/json", text });
const told = { kind: "job" as const, data: { job: "j", version: 2 } };

describe("the worker that tabs share", () => {
  it("asks once for what is asked after the same happening, and again after the next", async () => {
    const asked: string[] = [];
    const answerTo = askOnce(async (url) => plain(`${url} ${asked.push(url)}`));
    const first = await Promise.all([answerTo("/a", "1"), answerTo("/a", "1"), answerTo("/b", "1")]);
    expect(first.map((p) => p.text)).toEqual(["/a 1", "/a 1", "/b 2"]);
    expect((await answerTo("/a", "2")).text).toBe("/a 3");
  });

  it("keeps neither what went wrong nor anything for long", async () => {
    vi.useFakeTimers();
    let count = 0;
    const answerTo = askOnce(async () => {
      if (++count === 1) throw new Error("away");
      return plain(String(count), count === 2 ? 401 : 200);
    });
    await expect(answerTo("/a", "1")).rejects.toThrow("away");
    expect((await answerTo("/a", "1")).status).toBe(401);
    expect((await answerTo("/a", "1")).text).toBe("3");
    expect((await answerTo("/a", "1")).text).toBe("3");
    await vi.advanceTimersByTimeAsync(60_000);
    expect((await answerTo("/a", "1")).text).toBe("4");
    vi.useRealTimers();
  });
});

describe("the worker's own script", () => {
  it("tells all tabs, and gives one answer to all that ask", async () => {
    const heard = new Map<string, (e: { data: string }) => void>();
    vi.stubGlobal(
      "EventSource",
      class {
        addEventListener = (kind: string, hear: (e: { data: string }) => void) => void heard.set(kind, hear);
      },
    );
    let connect: (e: unknown) => void = () => {};
    vi.stubGlobal("addEventListener", (_: string, on: typeof connect) => void (connect = on));
    const asked = server({ "GET /api/jobs/j": () => ({ id: "j" }) });
    await import("../src/api/stream.worker");
    const ports = [0, 1, 2].map(() => {
      const said: Heard[] = [];
      return { said, postMessage: (h: Heard) => void said.push(h), start: () => {} };
    });
    ports.forEach((port) => connect({ ports: [port] }));
    const say = (port: number, data: Said) =>
      (ports[port] as never as { onmessage: (e: unknown) => void }).onmessage({ data });
    say(2, "gone");
    heard.get("job")!({ data: '{"job":"j"}' });
    expect(ports.map((p) => p.said.length)).toEqual([1, 1, 0]);
    const { mark } = ports[0].said[0] as { mark: string };
    expect(ports[1].said[0]).toEqual({ told: { kind: "job", data: { job: "j" } }, mark });
    say(0, { ask: 7, url: "/api/jobs/j", mark });
    say(1, { ask: 9, url: "/api/jobs/j", mark });
    await vi.waitFor(() => expect(ports[1].said).toHaveLength(2));
    const found = { status: 200, type: "application/json", text: '{"id":"j"}' };
    expect(ports.map((p) => p.said[1])).toEqual([{ answer: 7, plain: found }, { answer: 9, plain: found }, undefined]);
    expect(asked).toHaveLength(1);
    heard.get("job")!({ data: '{"job":"j"}' });
    expect((ports[0].said[2] as { mark: string }).mark).not.toBe(mark);
    vi.unstubAllGlobals();
  });
});

describe("a tab", () => {
  /** The worker, played by the test. */
  const worker = { said: [] as Said[], onmessage: null as never as (e: MessageEvent<Heard>) => void, close: () => {} };
  const say = (data: Heard) => worker.onmessage({ data } as MessageEvent<Heard>);
  const asks = () => worker.said.filter((s) => s !== "gone");
  const read = () => api.GET("/api/jobs/{job_id}", { params: { path: { job_id: "j" } }, ...together });
  const answerAll = (text: string | null) =>
    asks().forEach((s) => say({ answer: s.ask, plain: text === null ? null : plain(text) }));
  let alone: ReturnType<typeof server>;
  let leave: () => void;

  beforeEach(() => {
    worker.said = [];
    alone = server({
      "GET /api/jobs/j": () => ({ id: "alone" }),
      "POST /api/jobs/j/undo": () => ({ id: "j" }),
    });
    vi.stubGlobal(
      "SharedWorker",
      class {
        port = Object.assign(worker, { postMessage: (s: Said) => void worker.said.push(s) });
      },
    );
    leave = join(() => {});
  });
  afterEach(() => {
    leave();
    vi.unstubAllGlobals();
  });

  const got = async (asking: ReturnType<typeof read>) => ((await asking).data as JobState).id;

  it("asks together with others once it has heard something", async () => {
    expect(await got(read())).toBe("alone");
    say({ told, mark: "w 1" });
    const asking = read();
    await vi.waitFor(() => expect(asks()).toHaveLength(1));
    expect(asks()[0]).toMatchObject({ url: expect.stringMatching(/\/api\/jobs\/j$/), mark: "w 1" });
    answerAll('{"id":"together"}');
    expect(await got(asking)).toBe("together");
    expect(alone).toHaveLength(1);
  });

  it("asks alone after a change of its own, of which another's answer may not know, until it hears of it", async () => {
    say({ told, mark: "w 1" });
    await api.POST("/api/jobs/{job_id}/undo", { params: { path: { job_id: "j" } } });
    expect(await got(read())).toBe("alone");
    say({ told, mark: "w 2" });
    const asking = read();
    await vi.waitFor(() => expect(asks()).toHaveLength(1));
    answerAll('{"id":"together"}');
    expect(await got(asking)).toBe("together");
  });

  it("asks alone where the worker gets no answer, or gives none", async () => {
    say({ told, mark: "w 1" });
    const asking = read();
    await vi.waitFor(() => expect(asks()).toHaveLength(1));
    answerAll(null);
    expect(await got(asking)).toBe("alone");
    vi.useFakeTimers();
    const waiting = read();
    await vi.advanceTimersByTimeAsync(60_000);
    vi.useRealTimers();
    expect(await got(waiting)).toBe("alone");
  });
});
