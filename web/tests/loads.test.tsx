// @vitest-environment jsdom
import { encode } from "./block";
import { choose, inJob, job, server, view } from "./screen";
import { cleanup, fireEvent, renderHook, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Block } from "../src/api/client";
import { goTo, useSpot } from "../src/job/spot";
import { SeenStock } from "../src/stages/route/SeenStock";
import { leftColour, loadColour } from "../src/theme";
import { loadWords, spreadOf, topOf } from "../src/viewport/loads";
import { RowShown } from "../src/viewport/RowShown";

const [RAPID, CUT] = [0, 3];
const above = [
  { motion: 1, engagement_deg: 61, place: [1, 0, 0], in_part: [1, 0, 0] },
  { motion: 2, engagement_deg: 70, place: [2, 0, 0], in_part: [2, 0, 0] },
];
const columns = {
  kinds: Uint8Array.from([RAPID, CUT, CUT, RAPID, CUT]),
  lengths: Float32Array.from([0, 10, 30, 500, 60]),
  engagement: Float32Array.from([0, 61, 70, 0, 40]),
};
const path = (load = {}) =>
  encode(
    {
      motions: 5,
      unreached: [],
      feed_limits: [],
      load: { most_deg: 70, target_deg: 45, planned: true, above, slot_mm: 0, ...load },
    },
    { ...columns, points: new Float32Array(15) },
  );

describe("loads along a path", () => {
  it("are spread by length of cuts; rapids count for nothing", () => {
    const block = columns as never as Block;
    expect(topOf(block, "engagement")).toBe(70);
    expect([...spreadOf(block, "engagement", 70, 2)]).toEqual([0, 100]);
    expect([...spreadOf(block, "engagement", 100, 2)]).toEqual([60, 40]);
  });

  it("show what nearly all stays below, not one short peak", () => {
    const peak = { ...columns, lengths: Float32Array.from([0, 10, 0.05, 500, 60]) };
    expect(topOf(peak as never as Block, "engagement")).toBe(61);
  });

  it("have words", () => {
    expect(loadWords({ most_deg: 62.2, target_deg: 62, above: 0 })).toBe("held at 62°");
    expect(loadWords({ most_deg: 95, target_deg: 62, above: 3 })).toBe("peaks at 95°, 3 places");
    expect(loadWords({ most_deg: 95, target_deg: 62, above: 1 })).toBe("peaks at 95°, 1 place");
    expect(loadWords({ most_deg: 95, target_deg: null, above: 0 })).toBe("peaks at 95°");
    expect([loadWords(null), loadWords({ most_deg: 0, above: 0 })]).toEqual(["", ""]);
  });

  it("have colours that darken, and another where the part is cut", () => {
    const light = ([r, g, b]: number[]) => r + g + b;
    expect(light(loadColour(0))).toBeGreaterThan(light(loadColour(1)));
    expect(light(leftColour(0, 2))).toBeGreaterThan(light(leftColour(1, 2)));
    expect(leftColour(9, 2)).toEqual(leftColour(2, 2));
    expect(leftColour(-0.3, 2)).not.toEqual(leftColour(0, 2));
  });
});

describe("what is shown of a row", () => {
  const row = (number: number, rest = {}) => ({ number, setup: "a", enabled: true, name: "", params: {}, ...rest });
  const operations = [row(10), row(20, { enabled: false }), row(30)];
  const ready = operations.map(({ number }) => ({ number, state: "ready", path_key: "k" }));
  const open = (v = {}, status: unknown = { operations: ready }, meta: Block["meta"] | null = null) => {
    const at = view({ stage: "route", rows: [30], ...v });
    const j = job({ operations, part: { file: "a.step" } } as never, { status: status as never });
    inJob(<RowShown full={2} onFull={vi.fn()} meta={meta} />, j, at);
    return at;
  };
  beforeEach(() => server({ "GET /api/jobs/j/operations/30/path": () => new Response(path()) }));
  afterEach(cleanup);

  it("colours the cuts by a load, and takes one to the places above it one after another", async () => {
    const at = open();
    await choose("Cuts coloured by", "chip thickness");
    expect(at.set).toHaveBeenLastCalledWith({ load: "chip" });
    cleanup();
    open({ load: "engagement" });
    const next = await screen.findByText("Go to where it is above (1 of 2)");
    expect(screen.getByText("peaks at 70°, 2 places, as planned")).toBeTruthy();
    const spot = renderHook(useSpot);
    fireEvent.click(next);
    await waitFor(() => expect(spot.result.current).toEqual([1, 0, 0]));
    fireEvent.click(screen.getByText("Go to where it is above (2 of 2)"));
    expect(spot.result.current).toEqual([2, 0, 0]);
    goTo(null);
  });

  it("names the row whose stock it is, with its volume, and saves it", () => {
    open({ stock: "before", thick: true }, undefined, { volume_mm3: 20400, left_mm3: 1500 });
    expect(screen.getByText("After row 10: 20.4 cm³, 1.50 cm³ over the part")).toBeTruthy();
    expect(screen.getByText("3MF").closest("a")!.getAttribute("href")).toBe(
      "/api/jobs/j/setups/a/stock-after/file?row=10&form=3mf",
    );
    cleanup();
    open({ stock: "after" });
    expect(screen.getByText(/^After row 30/)).toBeTruthy();
    cleanup();
    open({ stock: "before", rows: [10] });
    expect(screen.getByText(/^As it comes/)).toBeTruthy();
  });

  it("says to compute what is not there", () => {
    open({ stock: "after" }, { operations: [{ number: 30, state: "out of date" }] });
    expect(screen.getByText("Compute the row to see its stock.")).toBeTruthy();
  });

  it("changes which stock a row is made for", async () => {
    const j = job({ operations } as never);
    const at = { ...row(30), sees: { kind: "chain", row: null } } as never;
    inJob(<SeenStock operation={at} />, j, view());
    await choose("Made for", "what stood before an earlier row");
    expect(vi.mocked(j.edit).mock.calls[0][0]).toEqual([
      { path: "operations/30/sees", value: { kind: "before row", row: 20 }, was: { kind: "chain", row: null } },
    ]);
  });
});
