// @vitest-environment jsdom
import { choose, inJob, job, server, view } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { setMoment } from "../src/job/moment";
import { ReleaseBench } from "../src/stages/release/ReleaseBench";
import { ReleaseSheet } from "../src/stages/release/ReleaseSheet";

const setups = [
  { id: "a", name: "Top", dialect: "Plain ISO" },
  { id: "b", name: "", dialect: "Plain ISO" },
];
const operations = [
  { number: 10, name: "faces", setup: "a", enabled: true },
  { number: 20, name: "holes", setup: "b", enabled: false },
];
const state = (a: string, b = "out of date") => ({
  operations: [{ number: 10, time_s: 75 }],
  setups: [
    { id: "a", proof: a, program: a, proof_key: "k", program_key: "p", time_s: 3675 },
    { id: "b", proof: b, program: b, proof_key: "", program_key: "", time_s: null },
  ],
  tasks: [],
});
const programs = [
  { name: "one.nc", text: "N1\nN2\nN3\nN4\n", lines: 4, operations: [10] },
  { name: "two.nc", text: "M1\nM2\n", lines: 2, operations: [20] },
];
/** Motions 1 to 5: lines 1, 1, 3 of the first program, lines 0, 1 of the second. */
const columns = {
  meta: {},
  program: Int32Array.of(0, 0, 0, 1, 1),
  line: Int32Array.of(1, 1, 3, 0, 1),
  tool: Int32Array.of(4, 4, 7, 7, 7),
};

const client = () => {
  const made = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  made.setQueryData(["programs", "j", "a", "p"], programs);
  made.setQueryData(["columns", "j", "a", "k"], columns);
  return made;
};

beforeEach(() => setMoment(0));
afterEach(cleanup);

describe("the sheet of the release", () => {
  const sheet = (a: string, answers: Parameters<typeof server>[0] = {}) => {
    const asked = server({
      "GET /api/dialects": () => [
        { name: "Plain ISO", description: "Words of ISO 6983." },
        { name: "Long words", description: "" },
      ],
      "GET /api/jobs/j/releases": () => [],
      ...answers,
    });
    const j = job({ setups, operations } as never, { status: state(a) as never });
    const v = view();
    inJob(<ReleaseSheet />, j, v, client());
    return { asked, j, v };
  };
  const button = (text: string) => screen.getByText(text).closest<HTMLButtonElement>("button,a")!;

  it("offers to compute what is out of date, and seals nothing then", () => {
    const { j } = sheet("out of date");
    expect(screen.getByText("The program is out of date.")).toBeTruthy();
    fireEvent.click(screen.getByText("Compute and prove"));
    expect(j.compute).toHaveBeenCalledWith("a");
    expect(button("Seal a release").disabled).toBe(true);
    expect(button("Setup sheet").getAttribute("data-disabled")).toBe("true");
  });

  it("seals where all setups that have rows are proved, and lists what was made", async () => {
    let made: unknown[] = [];
    const { j, asked } = sheet("ready", {
      "GET /api/jobs/j/releases": () => made,
      "POST /api/jobs/j/releases": () => {
        made = [{ number: 3, made_at: "2026-11-01T10:00:00Z", faults: 2, files: ["one.nc", "report.json"] }];
        return made[0];
      },
    });
    await waitFor(() => expect(button("Seal a release").disabled).toBe(false));
    fireEvent.click(screen.getByText("Seal a release"));
    expect(await screen.findByText(/Release 3/)).toBeTruthy();
    expect(screen.getByText(/2 faults/).className).toBe("fault");
    expect(screen.getByText("report.json").getAttribute("href")).toBe("/api/jobs/j/releases/3/files/report.json");
    expect(asked.filter((a) => a.what === "POST /api/jobs/j/releases")).toHaveLength(1);
    expect(j.setNote).toHaveBeenLastCalledWith(null);
  });

  it("says why a release was refused", async () => {
    const { j } = sheet("ready", {
      "POST /api/jobs/j/releases": () =>
        Response.json({ title: "The proof of Top is out of date.", status: 422 }, { status: 422 }),
    });
    fireEvent.click(screen.getByText("Seal a release"));
    await waitFor(() => expect(j.setNote).toHaveBeenLastCalledWith("The proof of Top is out of date."));
  });

  it("changes the controller and the setup", async () => {
    const { j, v } = sheet("ready");
    await screen.findByText("Words of ISO 6983.");
    await choose("Controller", "Long words");
    expect(j.edit).toHaveBeenCalledWith(
      [{ path: "setups/a/dialect", value: "Long words", was: "Plain ISO" }],
      "controller",
    );
    fireEvent.click(screen.getAllByText("b")[0]);
    expect(v.set).toHaveBeenCalledWith({ setup: "b", motion: 0 });
  });

  it("tells the times of rows and setups", () => {
    sheet("ready");
    expect(screen.getByText("10 faces").nextSibling!.textContent).toBe("1:15");
    expect(screen.getAllByText("Top").at(-1)!.closest("dt")!.nextSibling!.textContent).toBe("1:01:15");
  });

  it("saves a program as it is", async () => {
    const blobs: Blob[] = [];
    vi.stubGlobal(
      "URL",
      Object.assign(URL, { createObjectURL: (b: Blob) => (blobs.push(b), "blob:x"), revokeObjectURL: () => 0 }),
    );
    const click = vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(() => undefined);
    sheet("ready");
    fireEvent.click(screen.getAllByText("Save")[1]);
    expect(click).toHaveBeenCalledTimes(1);
    expect((click.mock.contexts[0] as HTMLAnchorElement).download).toBe("two.nc");
    expect(blobs[0].size).toBe(6);
    click.mockRestore();
  });
});

describe("the text of the program", () => {
  beforeEach(() => {
    // Pages of tests have no heights; the list shows what would fit.
    vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(400);
    vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(400);
    HTMLElement.prototype.scrollTo = () => undefined;
  });
  const bench = () => {
    const v = view();
    inJob(<ReleaseBench />, job({ setups, operations } as never, { status: state("ready") as never }), v, client());
    return v;
  };
  const lines = () => screen.getAllByRole("option");

  it("follows the tool from line to line and into the next program", () => {
    bench();
    expect(lines().map((l) => l.textContent)).toEqual(["1N1", "2N2", "3N3", "4N4"]);
    expect(lines().some((l) => l.getAttribute("aria-selected") === "true")).toBe(false);
    act(() => setMoment(3));
    expect(lines()[3].getAttribute("aria-selected")).toBe("true");
    act(() => setMoment(5));
    expect(lines().map((l) => l.textContent)).toEqual(["1M1", "2M2"]);
    expect(lines()[1].getAttribute("aria-selected")).toBe("true");
    act(() => setMoment(99));
    expect(lines()[1].getAttribute("aria-selected")).toBe("true");
  });

  it("takes the tool to where a line has been made true", () => {
    const v = bench();
    fireEvent.click(lines()[1]);
    expect(v.set).toHaveBeenLastCalledWith({ motion: 2 });
    fireEvent.click(lines()[2]); // says nothing that moves: what was before it
    expect(v.set).toHaveBeenLastCalledWith({ motion: 2 });
    fireEvent.click(lines()[0]);
    expect(v.set).toHaveBeenLastCalledWith({ motion: 0 });
  });

  it("goes by keys, and to the other program's beginning", () => {
    const v = bench();
    act(() => setMoment(2));
    const box = screen.getByRole("listbox");
    fireEvent.keyDown(box, { key: "ArrowDown" });
    expect(v.set).toHaveBeenLastCalledWith({ motion: 2 });
    fireEvent.keyDown(box, { key: "ArrowUp" });
    expect(v.set).toHaveBeenLastCalledWith({ motion: 0 });
    fireEvent.click(screen.getByText("two.nc"));
    expect(v.set).toHaveBeenLastCalledWith({ motion: 4 });
  });

  it("is announced where there is none", () => {
    inJob(
      <ReleaseBench />,
      job({ setups, operations } as never, { status: state("failed") as never }),
      view(),
      client(),
    );
    expect(screen.getByText(/The program appears when/)).toBeTruthy();
  });
});
