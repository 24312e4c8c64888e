// @vitest-environment jsdom
import { inJob, job, server, view } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { getMoment, setMoment } from "../src/job/moment";
import { ProofBench } from "../src/stages/proof/ProofBench";
import { ProofSheet } from "../src/stages/proof/ProofSheet";
import type { View } from "../src/job/view";

const n = 100;
const columns = {
  meta: { joints: ["X", "Y", "Z", "A"] },
  end_s: Float64Array.from({ length: n }, (_, i) => (i + 1) * 2),
  operation: Int32Array.from({ length: n }, (_, i) => (i < 40 ? 10 : 20)),
  tool: new Int32Array(n).fill(3),
  joints: Float64Array.from({ length: 4 * n }, (_, i) => (i === 203 ? NaN : 99 - i / 2)),
  rate: new Float32Array(n),
  engagement: new Float32Array(n),
  feed: new Float32Array(n),
  clearance: new Float32Array(n),
};
const summary = {
  time_s: 3723,
  motions: n,
  findings: [{ kind: "gouge", severity: "fault", motion: 59, time_s: 120, message: "Cut into.", advice: "Look." }],
  deviation: { min_mm: -0.012, max_mm: 0.2, within_tolerance_fraction: 0.987 },
  by_operation: { 20: { worst_gouge_mm: 0.012, worst_excess_mm: 0.2, peak_engagement_deg: 91.4 } },
  operations_in_order: [10, 20],
  time_by_operation: { 10: 80, 20: 120 },
  program_vs_path_mm: 0.0004,
};
const status = { setups: [{ id: "a", proof: "ready", proof_key: "k" }], operations: [], tasks: [] };

/** The bench or the sheet of a job that is proved (or not), with a view that keeps the moment as the app's does. */
const show = (what: React.ReactNode, proved = true) => {
  server({ "GET /api/schema": () => ({ $defs: {} }) });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  if (proved) {
    client.setQueryData(["columns", "j", "a", "k"], columns);
    client.setQueryData(["proof", "j", "a", "k"], summary);
  }
  const set = vi.fn((c: Parameters<View["set"]>[0]) => c.motion !== undefined && setMoment(c.motion));
  const j = job({ proof: { band_mm: 0.1 } } as never, { status: (proved ? status : undefined) as never });
  inJob(what, j, view({ set }), client);
  return { set, j };
};

let now = 0;
let frames: FrameRequestCallback[] = [];
/** Time goes on, and with it one picture. */
const picture = (ms: number) => {
  now += ms;
  const due = frames;
  frames = [];
  act(() => due.forEach((f) => f(now)));
};
beforeEach(() => {
  [now, frames] = [0, []];
  setMoment(0);
  vi.stubGlobal("requestAnimationFrame", (f: FrameRequestCallback) => frames.push(f));
  vi.stubGlobal("cancelAnimationFrame", () => (frames = []));
  vi.spyOn(performance, "now").mockImplementation(() => now);
  HTMLCanvasElement.prototype.getContext = (() =>
    new Proxy({}, { get: () => () => undefined, set: () => true })) as never;
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});

describe("playing", () => {
  const play = () => fireEvent.click(screen.getByRole("button", { name: "Play" }));

  it("goes on by machine time, twenty times as fast as it is set to at first", () => {
    show(<ProofBench />);
    play();
    picture(100);
    expect(getMoment()).toBe(1);
    picture(400); // 8 s of machine time on, from the 2 s that had been made
    expect(getMoment()).toBe(5);
  });

  it("draws no more often than there is something to see, and makes up for slow pictures only so far", () => {
    show(<ProofBench />);
    play();
    picture(20);
    expect(getMoment()).toBe(0);
    picture(10_000); // half a second counts
    expect(getMoment()).toBe(5);
  });

  it("stops at a fault, tells the address, and goes on from there", () => {
    const { set } = show(<ProofBench />);
    setMoment(57);
    play();
    picture(500);
    expect(getMoment()).toBe(60);
    expect(set).toHaveBeenLastCalledWith({ motion: 60 });
    expect(screen.getByRole("button", { name: "Play" })).toBeTruthy();
    play();
    picture(100);
    expect(getMoment()).toBeGreaterThan(60);
  });

  it("tells the address nothing on the way, but where it was paused", () => {
    const { set } = show(<ProofBench />);
    play();
    set.mockClear();
    picture(200);
    picture(200);
    expect(set).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole("button", { name: "Pause" }));
    expect(set).toHaveBeenCalledWith({ motion: getMoment() });
    const here = getMoment();
    picture(500);
    expect(getMoment()).toBe(here);
  });

  it("begins again from the start when it was at the end, and leaves the deviation map", () => {
    const { set } = show(<ProofBench />);
    act(() => setMoment(n));
    play();
    expect(set).toHaveBeenCalledWith({ deviation: false, motion: 0 });
  });
});

describe("stepping", () => {
  it("goes by one motion and by operations, not past the ends", () => {
    show(<ProofBench />);
    const press = (name: string) => fireEvent.click(screen.getByRole("button", { name }));
    press("One motion back");
    expect(getMoment()).toBe(0);
    press("One motion on");
    expect(getMoment()).toBe(1);
    press("Operation end");
    expect(getMoment()).toBe(40);
    press("Operation end");
    expect(getMoment()).toBe(100);
    press("One motion on");
    expect(getMoment()).toBe(100);
    press("Operation start");
    expect(getMoment()).toBe(40);
  });

  it("says where it is", () => {
    show(<ProofBench />);
    act(() => setMoment(50));
    expect(screen.getByTestId("moment").textContent).toBe(
      "1:40 of 3:20 · motion 50 of 100 · op 20 T3 · X 1.00 Y 0.50 Z 0.00 A −0.50",
    );
    act(() => setMoment(51));
    expect(screen.getByTestId("moment").textContent).toMatch(/X −1.00 Y −1.50 Z −2.00 A –$/);
  });
});

describe("the sheet of the proof", () => {
  it("tells time, deviation and how far the program is from the path", async () => {
    show(<ProofSheet />);
    expect(screen.getByText("1:02:03")).toBeTruthy();
    expect(screen.getByTestId("deviation").textContent).toBe("−0.012 … 0.200 mm");
    expect(screen.getByText("98.7 %")).toBeTruthy();
    expect(screen.getByText("0.40 µm")).toBeTruthy();
    expect(screen.getByText("91°")).toBeTruthy();
    expect(screen.getByText("1:20")).toBeTruthy();
  });

  it("leads to the place of a finding", () => {
    const { set } = show(<ProofSheet />);
    fireEvent.click(screen.getByText("Cut into.", { exact: false }));
    expect(set).toHaveBeenCalledWith({ motion: 60, deviation: false });
  });

  it("shows the map of the finished stock", () => {
    const { set } = show(<ProofSheet />);
    fireEvent.click(screen.getByLabelText("Deviation map"));
    expect(set).toHaveBeenCalledWith({ deviation: true, motion: n });
  });

  it("says that there is nothing yet, and the bench does too", async () => {
    show(
      <>
        <ProofSheet />
        <ProofBench />
      </>,
      false,
    );
    await waitFor(() => expect(screen.getByText(/There is nothing to prove yet/)).toBeTruthy());
    expect(screen.getByText(/The chart appears when/)).toBeTruthy();
  });
});
