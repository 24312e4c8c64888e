// @vitest-environment jsdom
import { choose, inJob, job, server, view } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { act, cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Setup, Vec } from "../src/job/document";
import { giveClick, keepEye, PART, pick, pickNothing, picks } from "../src/job/picking";
import { StockForm } from "../src/stages/setups/StockForm";
import { UpForm } from "../src/stages/setups/UpForm";
import { ZeroPoints } from "../src/stages/setups/ZeroPoints";

beforeEach(pickNothing);
afterEach(cleanup);

const part = {
  summary: { bodies: [{ name: "bracket" }, { name: "blank" }] },
  faces: [
    { kind: "plane", reference: { centroid: [0, 0, 9] } },
    { kind: "spline", reference: { centroid: [5, 0, 0] } },
    { kind: "cylinder", reference: { centroid: [1, 2, 3] } },
  ],
};
const features = { holes: [{ name: "hole 2", faces: [2], direction: [0, 1, 0] }] };

const setup = (rest = {}) =>
  ({
    id: "b",
    name: "",
    up: { kind: "axis", axis: "+z" },
    spin_deg: 0,
    flip: false,
    x_along: null,
    stock: { kind: "box", margin_mm: 2 },
    ...rest,
  }) as unknown as Setup;

const client = () => {
  const made = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  made.setQueryData(["part", "j", { file: "x" }], part);
  made.setQueryData(["features", "j", { file: "x" }, null], features);
  return made;
};
const doc = { part: { file: "x" }, files: [], setups: [setup({ id: "a", name: "Top" }), setup()] };

describe("which way is up", () => {
  const form = (rest = {}) => {
    const put = vi.fn(async () => ""),
      j = job(doc as never);
    server({
      "POST /api/jobs/j/part/references": (body) => ({
        faces: [],
        edges: [{ edge: (body as { edges: number[] }).edges[0] }],
      }),
    });
    inJob(<UpForm setup={setup(rest)} cameFrom="the part" put={put} />, j, view({ setup: "b" }), client());
    return { put, j };
  };
  const up = { kind: "axis", axis: "+z" };

  it("is an axis of the part", async () => {
    const { put } = form();
    await choose("Direction", "−X of the part");
    expect(put).toHaveBeenCalledWith("up", { kind: "axis", axis: "-x" }, up, "up");
  });

  it("is a picked face that has a direction", async () => {
    const { put, j } = form();
    fireEvent.click(screen.getByText("Pick the face that looks up"));
    act(() => pick({ faces: [1] }));
    expect(j.setNote).toHaveBeenCalledWith("That face has no direction. Pick a flat or round face.");
    expect(put).not.toHaveBeenCalled();
    expect(picks.get().purpose).toBe("");
    fireEvent.click(screen.getByText("Pick the face that looks up"));
    act(() => pick({ faces: [0] }));
    expect(put).toHaveBeenCalledWith("up", { kind: "face", face: part.faces[0].reference }, up, "up");
    expect(picks.get().faces).toEqual([]);
  });

  it("takes no pick that was not meant for it", () => {
    const { put } = form();
    act(() => pick({ faces: [0], purpose: "measure" }));
    expect(put).not.toHaveBeenCalled();
    expect(picks.get().faces).toEqual([0]);
  });

  const other = async (item: string) => {
    fireEvent.click(screen.getByText("Other picks"));
    fireEvent.click(await screen.findByText(item));
  };

  it("is the axis of a hole, and says where there is none", async () => {
    const { put, j } = form();
    await other("A hole's axis points up");
    act(() => pick({ faces: [0] }));
    expect(j.setNote).toHaveBeenCalledWith("There is no hole there. Click inside one.");
    await other("A hole's axis points up");
    act(() => pick({ faces: [2] }));
    expect(put).toHaveBeenCalledWith(
      "up",
      { kind: "direction", direction: [0, 1, 0], came_from: "along the axis of hole 2" },
      up,
      "up",
    );
  });

  it("is an edge, which may be what X runs along as well", async () => {
    const { put } = form();
    await other("An edge points up");
    act(() => pick({ edges: [7] }));
    await waitFor(() => expect(put).toHaveBeenCalledWith("up", { kind: "edge", edge: { edge: 7 } }, up, "up"));
    await other("X runs along an edge");
    act(() => pick({ edges: [4] }));
    await waitFor(() => expect(put).toHaveBeenCalledWith("x_along", { edge: 4 }, null, "x along"));
  });

  it("lies square on three points, counted anew each time", async () => {
    const { put } = form();
    const click = (point: Vec) => act(() => giveClick({ on: PART, face: 0, point }));
    click([9, 9, 9]);
    await other("Three points lie level");
    click([0, 0, 0]);
    click([1, 0, 0]);
    expect(put).not.toHaveBeenCalled();
    click([0, 1, 0]);
    const points = [
      [0, 0, 0],
      [1, 0, 0],
      [0, 1, 0],
    ];
    expect(put).toHaveBeenCalledWith("up", { kind: "points", points }, up, "up");
    click([3, 3, 3]);
    expect(put).toHaveBeenCalledTimes(1);
  });

  it("is towards the eye", async () => {
    const { put } = form();
    keepEye([0.6, 0, 0.8]);
    await other("Up is towards the eye");
    expect(put).toHaveBeenCalledWith(
      "up",
      { kind: "direction", direction: [0.6, 0, 0.8], came_from: "towards the eye" },
      up,
      "up",
    );
  });

  it("turns by quarters within half a turn either way, and over", () => {
    const { put } = form({ spin_deg: 135, flip: true });
    fireEvent.click(screen.getByText("Turn 90°"));
    expect(put).toHaveBeenCalledWith("spin_deg", -135, 135, "turn");
    fireEvent.click(screen.getByRole("switch"));
    expect(put).toHaveBeenCalledWith("flip", false, true, "upside down");
  });
});

describe("the 27 points of the box", () => {
  it("are all there, each where its name says, and one is on", () => {
    const taken = vi.fn();
    inJob(<ZeroPoints at={[-1, 1, 0]} onPick={taken} />, job(), view());
    const names = screen.getAllByRole("button").map((b) => b.getAttribute("aria-label"));
    expect(new Set(names).size).toBe(27);
    expect(screen.getAllByRole("button", { pressed: true }).map((b) => b.getAttribute("aria-label"))).toEqual([
      "middle, back, left",
    ]);
    fireEvent.click(screen.getByLabelText("bottom, front, right"));
    expect(taken).toHaveBeenLastCalledWith([1, -1, -1]);
    fireEvent.click(screen.getByLabelText("top, middle, middle"));
    expect(taken).toHaveBeenLastCalledWith([0, 0, 1]);
  });
});

describe("the stock", () => {
  const kind = (required: string[], properties: object) => ({
    required: ["kind", ...required],
    properties: { kind: {}, ...properties },
  });
  const schema = {
    $defs: {
      Setup: {
        properties: {
          stock: {
            discriminator: {
              mapping: { box: "#/$defs/B", body: "#/$defs/Y", file: "#/$defs/F", "earlier setup": "#/$defs/E" },
            },
          },
        },
      },
      B: kind([], { margin_mm: { type: "number", title: "Margin", unit: "mm" } }),
      Y: kind(["body"], { body: { type: "string", title: "Body" } }),
      F: kind(["file"], { file: { type: "string", title: "File" } }),
      E: kind(["setup"], { setup: { type: "string", title: "After setup" } }),
    },
  };
  const form = async (rest = {}, more = {}) => {
    const put = vi.fn(async () => ""),
      j = job({ ...doc, ...more } as never);
    const asked = server({ "GET /api/schema": () => schema, "PUT /api/jobs/j/files": () => ({}) });
    const own = setup({ stock: { kind: "box", margin_mm: 2 }, ...rest });
    inJob(<StockForm setup={own} size={[10, 20.005, 3]} put={put} />, j, view({ setup: "b" }), client());
    await waitFor(() => expect(asked).toHaveLength(1));
    return { put, j, asked, was: own.stock };
  };

  it("begins with what there is: the last other body, the setup before", async () => {
    const { put, was } = await form();
    expect(screen.getByText("Block of 10.00 × 20.00 × 3.00 mm", { exact: false })).toBeTruthy();
    await choose("Shape", "body");
    expect(put).toHaveBeenCalledWith("stock", { kind: "body", body: "blank" }, was, "stock");
    await choose("Shape", "earlier setup");
    expect(put).toHaveBeenCalledWith("stock", { kind: "earlier setup", setup: "a" }, was, "stock");
  });

  it("says what a shape lacks", async () => {
    const { put, j } = await form({ id: "a" });
    await choose("Shape", "file");
    expect(j.setNote).toHaveBeenCalledWith("Bring the stock's file in first.");
    await choose("Shape", "earlier setup");
    expect(j.setNote).toHaveBeenCalledWith("There is no setup before this one.");
    expect(put).not.toHaveBeenCalled();
  });

  it("takes models of the job, not its drawings", async () => {
    const { put, was } = await form({}, { files: ["outline.DXF", "blank.stl"] });
    await choose("Shape", "file");
    expect(put).toHaveBeenCalledWith("stock", { kind: "file", file: "blank.stl" }, was, "stock");
  });

  it("comes from a file under the name that the server keeps", async () => {
    const { put, was, asked } = await form();
    const input = document.querySelector<HTMLInputElement>("input[type=file]")!;
    fireEvent.change(input, { target: { files: [new File(["x"], "raw block (2).stl")] } });
    await waitFor(() =>
      expect(put).toHaveBeenCalledWith("stock", { kind: "file", file: "raw-block--2-.stl" }, was, "stock"),
    );
    expect(asked.at(-1)!.what).toBe("PUT /api/jobs/j/files");
  });
});
