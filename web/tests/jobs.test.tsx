// @vitest-environment jsdom
import { pageOf, server, show } from "./screen";
import { act, cleanup, fireEvent, renderHook, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { JobList } from "../src/jobs/JobList";
import { useJobs } from "../src/jobs/useJobs";
import { counted } from "../src/words";

class Events {
  static hear: Record<string, (e: { data: string }) => void> = {};
  addEventListener(kind: string, hear: (e: { data: string }) => void) {
    Events.hear[kind] = hear;
  }
  close() {}
}
const tell = (kind: string, data: object) => act(() => Events.hear[kind]({ data: JSON.stringify(data) }));

const head = (id: string, name: string, rest = {}) => ({
  id,
  name,
  version: 0,
  changed_at: "2026-11-01T10:00:00Z",
  part: "",
  setups: 1,
  rows: 3,
  tools: 2,
  state: "in work",
  words: "",
  fraction: 0,
  time_s: null,
  picture: "",
  known: true,
  ...rest,
});
const READY = { "GET /api/health": () => ({ ready: true, fraction: 1, words: "", version: "1" }) };
const refuse = (title: string) => Response.json({ title, status: 422 }, { status: 422 });
const names = () => [...document.querySelectorAll("table.jobs a[href^='/jobs/']")].map((a) => a.textContent);
const choose = (name: string) =>
  fireEvent.change(document.querySelector("input[type=file]")!, { target: { files: [new File(["x"], name)] } });

beforeEach(() => {
  vi.stubGlobal("EventSource", Events);
  history.replaceState(null, "", "/");
});
afterEach(cleanup);

describe("the list of jobs", () => {
  it("leads to each job and says what it is and lacks", async () => {
    const bracket = head("7", "Lantern bracket", {
      part: "b.step",
      rows: 1,
      words: "Compute and prove the route.",
      picture: "ab",
    });
    server({ ...READY, "GET /api/jobs": () => [bracket] });
    show(<JobList />);
    expect((await screen.findByText("Lantern bracket")).getAttribute("href")).toBe("/jobs/7/part");
    expect(screen.getByText("1 row, 2 tools")).toBeTruthy();
    expect(screen.getByText("Compute and prove the route.")).toBeTruthy();
    expect(document.querySelector("img")!.getAttribute("src")).toBe("/api/jobs/7/picture?of=ab");
  });
  it("asks a job whose state is not known", async () => {
    const asked = server({
      ...READY,
      "GET /api/jobs": () => [head("7", "Bracket", { known: false, state: "" })],
      "GET /api/jobs/7/head": () => head("7", "Bracket", { state: "proven", time_s: 61 }),
    });
    show(<JobList />);
    expect(await screen.findByText("1:01")).toBeTruthy();
    expect(asked.filter((a) => a.what === "GET /api/jobs/7/head")).toHaveLength(1);
  });
  it("shows what an event tells of a job without asking for the list again", async () => {
    const asked = server({ ...READY, "GET /api/jobs": () => [head("7", "Bracket"), head("8", "Rail")] });
    show(<JobList />);
    await screen.findByText("Bracket");
    tell("job", { job: "7", head: head("7", "Lamp bracket") });
    tell("jobs", { job: "8", head: null });
    tell("jobs", { job: "9", head: head("9", "Dial") });
    await waitFor(() => expect(names().sort()).toEqual(["Dial", "Lamp bracket"]));
    expect(asked.filter((a) => a.what === "GET /api/jobs")).toHaveLength(1);
    tell("job", { job: "7" });
    await waitFor(() => expect(names().sort()).toEqual(["Bracket", "Rail"]));
  });
  it("leaves the jobs that nothing happened to as they are, so that they are not drawn again", async () => {
    server({ ...READY, "GET /api/jobs": () => [head("7", "Bracket"), head("8", "Rail")] });
    const { result } = renderHook(() => useJobs(), { wrapper: pageOf() });
    await waitFor(() => expect(result.current.heads).toHaveLength(2));
    const rail = result.current.heads.find((j) => j.id === "8");
    tell("job", { job: "7", head: head("7", "Lamp bracket") });
    await waitFor(() => expect(result.current.heads.map((j) => j.name)).toContain("Lamp bracket"));
    expect(result.current.heads.find((j) => j.id === "8")).toBe(rail);
  });
  it("does no work while nobody sees it, and hears what it missed when it is looked at", async () => {
    const asked = server({ ...READY, "GET /api/jobs": () => [head("7", "Before"), head("8", "Rail")] });
    show(<JobList />);
    await screen.findByText("Before");
    const hidden = vi.spyOn(document, "hidden", "get").mockReturnValue(true);
    const before = asked.length;
    for (let k = 0; k < 5; k++) tell("job", { job: "7", head: head("7", `Name ${k}`) });
    tell("jobs", { job: "8", head: null });
    expect(names().sort()).toEqual(["Before", "Rail"]);
    hidden.mockReturnValue(false);
    fireEvent(document, new Event("visibilitychange"));
    await waitFor(() => expect(names()).toEqual(["Name 4"]));
    expect(asked).toHaveLength(before);
    hidden.mockRestore();
  });
  it("finds by every word and sorts by name, time and the other way round", async () => {
    const heads = [
      head("1", "Rail", { time_s: 5, changed_at: "2026-11-03T10:00:00Z" }),
      head("2", "Bracket of the rail", { time_s: 50, changed_at: "2026-11-02T10:00:00Z" }),
      head("3", "Dial", { time_s: 20, state: "proven" }),
    ];
    server({ ...READY, "GET /api/jobs": () => heads });
    show(<JobList />);
    await screen.findByText("Dial");
    expect(names()).toEqual(["Rail", "Bracket of the rail", "Dial"]);
    fireEvent.click(screen.getByText(/^Job/));
    expect(names()).toEqual(["Bracket of the rail", "Dial", "Rail"]);
    fireEvent.click(screen.getByText(/^Machining time/));
    expect(names()).toEqual(["Bracket of the rail", "Dial", "Rail"]);
    fireEvent.click(screen.getByText(/^Machining time/));
    expect(names()).toEqual(["Rail", "Dial", "Bracket of the rail"]);
    fireEvent.change(screen.getByLabelText("Find a job"), { target: { value: "rail brack" } });
    expect(names()).toEqual(["Bracket of the rail"]);
    fireEvent.change(screen.getByLabelText("Find a job"), { target: { value: "proven" } });
    expect(names()).toEqual(["Dial"]);
  });
  it("says how to begin where it is empty, and that the server does not answer", async () => {
    server({ ...READY, "GET /api/jobs": () => [] });
    show(<JobList />);
    expect(await screen.findByText(/No jobs yet/)).toBeTruthy();
    cleanup();
    server({ ...READY, "GET /api/jobs": () => refuse("The database is down.") });
    show(<JobList />);
    expect((await screen.findByRole("alert")).textContent).toBe("The database is down.");
  });
  it("makes a job and goes there", async () => {
    server({ ...READY, "GET /api/jobs": () => [], "POST /api/jobs": () => ({ id: "9" }) });
    show(<JobList />);
    fireEvent.click(screen.getByText("Empty job"));
    await waitFor(() => expect(location.pathname).toBe("/jobs/9/part"));
  });
  it("makes a job of a model file that is dropped", async () => {
    const asked = server({
      ...READY,
      "GET /api/jobs": () => [],
      "POST /api/jobs": () => ({ id: "9" }),
      "PUT /api/jobs/9/part": () => ({ id: "9" }),
    });
    show(<JobList />);
    fireEvent.drop(document.querySelector("main")!, { dataTransfer: { files: [new File(["x"], "Hook.STEP")] } });
    await waitFor(() => expect(location.pathname).toBe("/jobs/9/part"));
    expect(asked.some((a) => a.what === "PUT /api/jobs/9/part")).toBe(true);
  });
  it("leaves no job behind where a model cannot be read, and says why", async () => {
    const asked = server({
      ...READY,
      "GET /api/jobs": () => [],
      "POST /api/jobs": () => ({ id: "9" }),
      "PUT /api/jobs/9/part": () => refuse("The file is damaged."),
      "DELETE /api/jobs/9": () => new Response(null, { status: 204 }),
    });
    show(<JobList />);
    choose("hook.step");
    expect((await screen.findByRole("alert")).textContent).toBe("The file is damaged.");
    expect(asked.some((a) => a.what === "DELETE /api/jobs/9")).toBe(true);
    expect(location.pathname).toBe("/");
  });
  it("says what is wrong with an archive that is brought in, and stays", async () => {
    server({ ...READY, "GET /api/jobs": () => [], "POST /api/jobs/import": () => refuse("That is no job.") });
    show(<JobList />);
    choose("a.zip");
    expect((await screen.findByRole("alert")).textContent).toBe("That is no job.");
    expect(location.pathname).toBe("/");
  });
  it("deletes with an undo, and duplicates", async () => {
    let there = true;
    const asked = server({
      ...READY,
      "GET /api/jobs": () => (there ? [head("7", "Bracket")] : []),
      "DELETE /api/jobs/7": () => ((there = false), new Response(null, { status: 204 })),
      "POST /api/jobs/7/restore": () => ((there = true), { id: "7" }),
      "POST /api/jobs/7/duplicate": () => ({ id: "8" }),
    });
    show(<JobList />);
    fireEvent.click(await screen.findByLabelText("Acts on Bracket"));
    fireEvent.click(await screen.findByText("Delete"));
    expect((await screen.findByRole("alert")).textContent).toContain("Bracket was deleted.");
    await waitFor(() => expect(names()).toEqual([]));
    fireEvent.click(screen.getByText("Undo"));
    await waitFor(() => expect(names()).toEqual(["Bracket"]));
    fireEvent.click(screen.getByLabelText("Acts on Bracket"));
    fireEvent.click(await screen.findByText("Duplicate"));
    await waitFor(() => expect(asked.some((a) => a.what === "POST /api/jobs/7/duplicate")).toBe(true));
  });
  it("shows how far a first start has come", async () => {
    server({
      "GET /api/health": () => ({ ready: false, fraction: 0.4, words: "compiled: programs", version: "1" }),
      "GET /api/jobs": () => [],
    });
    show(<JobList />);
    expect((await screen.findByText(/Getting ready/)).textContent).toContain("compiled: programs");
    expect(screen.getByText("40 %")).toBeTruthy();
  });
});

it("words agree with their number", () => {
  expect([counted(1, "row"), counted(0, "row"), counted(2, "body", "bodies")]).toEqual(["1 row", "0 rows", "2 bodies"]);
});
