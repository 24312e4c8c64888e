// @vitest-environment jsdom
import { encode } from "./block";
import { answerWith } from "./globals";
import { act, cleanup, render, waitFor } from "@testing-library/react";
import type { Group, Mesh } from "three";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { move } from "../src/viewport/motion";
import { StockBricks } from "../src/viewport/StockBricks";

/** The groups in the order in which the view makes them: fine, coarse. */
const held = vi.hoisted(() => [] as Group[]);
vi.mock("three", async (load) => {
  const three = await load<typeof import("three")>();
  class Held extends three.Group {
    constructor() {
      super();
      held.push(this);
    }
  }
  return { ...three, Group: Held };
});
vi.mock("@react-three/fiber", () => ({ useThree: () => ({ invalidate }) }));
const invalidate = vi.fn();

/** A block in the layout of the server: a triangle for each brick that is there, none for one that is gone. */
const block = (motion: number, full: boolean, bricks: [number, boolean][], deviation = false) => {
  const there = bricks.filter(([, full]) => full).length;
  return encode(
    { motion, full, cell_mm: 1 },
    {
      ids: Uint32Array.from(bricks.map(([id]) => id)),
      vertex_counts: Uint32Array.from(bricks.map(([, full]) => (full ? 3 : 0))),
      index_counts: Uint32Array.from(bricks.map(([, full]) => (full ? 3 : 0))),
      vertices: new Float32Array(9 * there).map((_, i) => i),
      indices: Uint32Array.from({ length: 3 * there }, (_, i) => i % 3),
      ...(deviation ? { deviation: new Float32Array(3 * there).fill(0.2) } : {}),
    },
  );
};

let asked: string[] = [];
let answers: ((url: URL) => Response)[] = [];
const at = () => ({ fine: held[0], coarse: held[1] });

beforeEach(() => {
  vi.useFakeTimers({ shouldAdvanceTime: true });
  [asked, answers, held.length] = [[], [], 0];
  answerWith(async (request) => {
    asked.push(new URL(request.url).search);
    const next = answers.shift();
    return next ? next(new URL(request.url)) : new Response(block(0, true, [[0, true]]));
  });
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

const paint = (): [number, number, number] => [0.5, 0.2, 0.1];
const given = { url: "/stock", proofKey: "k", motion: 5, deviation: false, paint };
const open = () => {
  const busy = vi.fn(),
    fault = vi.fn();
  const all = { ...given, onBusy: busy, onError: fault };
  const shown = render(<StockBricks {...all} />);
  return { busy, fault, to: (change: Partial<typeof given>) => shown.rerender(<StockBricks {...all} {...change} />) };
};
const gives = (...bytes: ArrayBuffer[]) => (answers = bytes.map((b) => () => new Response(b)));
const still = async (n: number) => {
  await waitFor(() => expect(asked).toHaveLength(n));
  await act(async () => void (await vi.advanceTimersByTimeAsync(20)));
};

describe("the stock in the view", () => {
  it("is coarse at once and fine right after", async () => {
    gives(block(5, true, [[0, true]]), block(5, true, [[1, true], [2, true]])); // prettier-ignore
    const { busy } = open();
    await still(2);
    expect(asked).toEqual(["?motion=5&coarse=true", "?motion=5"]);
    expect(at().fine.children).toHaveLength(2);
    expect([at().fine.visible, at().coarse.visible]).toEqual([true, false]);
    expect(busy).toHaveBeenLastCalledWith(false);
  });

  it("changes only the bricks that differ, and lets go those that are cut away", async () => {
    gives(
      block(5, true, [[0, true]]),
      block(5, true, [[1, true], [2, true], [3, true]]), // prettier-ignore
      block(9, true, [[0, true]]),
      block(9, false, [[2, false], [3, true]]), // prettier-ignore
    );
    const { to } = open();
    await still(2);
    const [first] = at().fine.children;
    to({ motion: 9 });
    await act(async () => void (await vi.advanceTimersByTimeAsync(700)));
    await still(4);
    expect(asked.slice(2)).toEqual(["?motion=9&coarse=true", "?motion=9&have=5"]);
    expect(at().fine.children).toHaveLength(2);
    expect(at().fine.children[0]).toBe(first);
  });

  it("stays coarse while things move, and fetches the fine one only when all rests", async () => {
    const { to } = open();
    await still(2);
    act(() => move());
    to({ motion: 6 });
    await still(3);
    expect([at().fine.visible, at().coarse.visible]).toEqual([false, true]);
    expect(asked[2]).toBe("?motion=6&coarse=true");
    await act(async () => void (await vi.advanceTimersByTimeAsync(700)));
    await still(4);
    expect(asked[3]).toBe("?motion=6&have=5");
    expect(at().fine.visible).toBe(true);
  });

  it("is fetched whole for another proof, and coloured by its deviation", async () => {
    const { to } = open();
    await still(2);
    gives(block(5, true, [[0, true]]), block(5, true, [[7, true]]), block(5, true, [[7, true]], true));
    to({ proofKey: "other" });
    await act(async () => void (await vi.advanceTimersByTimeAsync(700)));
    await still(4);
    expect(asked[3]).toBe("?motion=5");
    to({ proofKey: "other", deviation: true });
    await still(5);
    expect(asked[4]).toBe("?motion=5&deviation=true");
    const [mesh] = at().fine.children as Mesh[];
    expect(mesh.geometry.getAttribute("color").count).toBe(3);
  });

  it("says what failed and stays as it is", async () => {
    answers = [() => Response.json({ title: "The proof is out of date.", status: 409 }, { status: 409 })];
    const { fault, busy } = open();
    await waitFor(() => expect(fault).toHaveBeenCalledWith("The proof is out of date."));
    expect(busy).toHaveBeenLastCalledWith(false);
    expect(at().fine.children).toHaveLength(0);
  });
});
