// @vitest-environment jsdom
import { show } from "./screen";
import { act, cleanup, fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Finding } from "../src/api/client";
import { setMoment } from "../src/job/moment";
import { Chart } from "../src/stages/proof/Chart";

type Bar = { x: number; y: number; w: number; h: number; colour: string };
let bars: Bar[] = [],
  words: string[] = [],
  marks: [number, string][] = [];
const drawing = {
  fillStyle: "",
  globalAlpha: 1,
  font: "",
  beginPath: () => undefined,
  lineTo: () => undefined,
  fill: () => undefined,
  moveTo: (x: number) => marks.push([x, drawing.fillStyle]),
  fillRect: (x: number, y: number, w: number, h: number) => bars.push({ x, y, w, h, colour: drawing.fillStyle }),
  fillText: (text: string) => words.push(text),
};

beforeEach(() => {
  [bars, words, marks] = [[], [], []];
  setMoment(0);
  vi.spyOn(HTMLCanvasElement.prototype, "getContext").mockImplementation(() => drawing as never);
  vi.spyOn(HTMLCanvasElement.prototype, "getBoundingClientRect").mockReturnValue({ left: 100, width: 800 } as DOMRect);
  HTMLElement.prototype.setPointerCapture = () => undefined;
});
afterEach(cleanup);

/** 100 motions of a second each, and one of 100 s; 800 pixels, so each motion has four. */
const n = 101;
const columns = {
  meta: {},
  end_s: Float64Array.from({ length: n }, (_, i) => (i < 100 ? i + 1 : 200)),
  rate: Float32Array.from({ length: n }, (_, i) => (i === 10 ? 40 : i === 100 ? 5 : 0)),
  engagement: Float32Array.from({ length: n }, (_, i) => (i === 50 ? 180 : 45)),
  feed: new Float32Array(n).fill(1200),
  operation: Int32Array.from({ length: n }, (_, i) => (i < 60 ? 10 : 20)),
  clearance: Float32Array.from({ length: n }, (_, i) => (i === 30 ? 0.5 : i === 31 ? 3 : 2)),
};
const finding = (time_s: number | null, severity: string) => ({ time_s, severity }) as Finding;
const open = (findings: Finding[] = []) => {
  const seek = vi.fn();
  show(<Chart columns={columns} findings={findings} onSeek={seek} />);
  return { seek, chart: screen.getByTestId("chart") };
};
/** Heights of a lane's bars by pixel. */
const lane = (colour: string) => {
  const of = bars.filter((b) => b.colour === colour && b.w === 1).slice(-800);
  return of.map((b) => b.h);
};
const TOP = 120 / 4 - 16;

describe("the chart of the proof", () => {
  it("marks what a row holds as a line over its stretch of the engagement", () => {
    show(<Chart columns={columns} findings={[]} targets={{ 10: 90 }} onSeek={vi.fn()} />);
    const [line, ...more] = bars.slice(-4 * 801).filter((b) => b.h === 1.5);
    expect(more).toHaveLength(0);
    // 60 of 200 s, half way up to 180 degrees.
    expect([line.x, line.w]).toEqual([0, 240]);
    expect(line.y).toBeCloseTo(2 * (120 / 4) - 1 - TOP / 2);
  });

  it("says what each lane goes up to", () => {
    open();
    expect(words.slice(-4)).toEqual([
      "removal, up to 40.0 mm³/s",
      "engagement, up to 180 °",
      "feed, up to 1200 mm/min",
      "clearance, up to 3.0 mm",
    ]);
  });

  it("draws removal over time, so that volume is area", () => {
    open();
    const heights = lane("#6d2f6b");
    expect(heights.slice(40, 44)).toEqual([TOP, TOP, TOP, TOP]);
    expect(heights[39]).toBe(0);
    expect(heights[44]).toBe(0);
    expect(heights[600]).toBeCloseTo(TOP / 8);
  });

  it("keeps the peak of each pixel's stretch", () => {
    open();
    const heights = lane("#1f7a6d");
    expect(heights[201]).toBeCloseTo(TOP);
    expect(heights[100]).toBeCloseTo(TOP / 4);
  });

  it("marks findings where they are in time, faults told from others, those of no time left out", () => {
    open([finding(50, "fault"), finding(150, "attention"), finding(null, "fault")]);
    expect(marks.slice(-2)).toEqual([
      [200, "#a8324a"],
      [600, "#b7791f"],
    ]);
  });

  it("goes to the motion under the pointer, and on while it is held", () => {
    const { seek, chart } = open();
    fireEvent.pointerDown(chart, { clientX: 100 + 42, pointerId: 1 });
    expect(seek).toHaveBeenLastCalledWith(11);
    fireEvent.pointerMove(chart, { clientX: 100 + 600, buttons: 0 });
    expect(seek).toHaveBeenCalledTimes(1);
    fireEvent.pointerMove(chart, { clientX: 100 + 600, buttons: 1 });
    expect(seek).toHaveBeenLastCalledWith(101);
  });

  it("has a hand where the moment is", () => {
    open();
    const hand = document.querySelector<HTMLElement>(".hand")!;
    expect(hand.style.transform).toBe("translateX(0px)");
    act(() => setMoment(50));
    expect(hand.style.transform).toBe("translateX(200px)");
    act(() => setMoment(999));
    expect(hand.style.transform).toBe("translateX(800px)");
  });

  it("is the scrubber: keys step by motion and row, and it says where it stands", () => {
    Object.assign(columns, { operation: Int32Array.from({ length: n }, (_, i) => (i < 50 ? 10 : 20)) });
    const { seek } = open();
    const slider = screen.getByRole("slider", { name: "Moment of the proof" });
    act(() => setMoment(60));
    expect(slider.getAttribute("aria-valuetext")).toBe("1:00, motion 60 of 101");
    for (const key of ["ArrowRight", "ArrowLeft", "Home", "End", "PageUp", "x"]) fireEvent.keyDown(slider, { key });
    expect(seek.mock.calls.map(([m]) => m)).toEqual([61, 59, 0, 101, 50]);
  });
});
