// @vitest-environment jsdom
import { choose, inJob, job, server, view } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { pick, pickNothing, picks } from "../src/job/picking";
import { Bodies } from "../src/stages/part/Bodies";
import { Health } from "../src/stages/part/Health";
import { HoleTable } from "../src/stages/part/HoleTable";
import { Picked } from "../src/stages/part/Picked";

beforeEach(pickNothing);
afterEach(cleanup);

const file = { file: "x", scale: 1, roles: [{ body: "clamp", role: "fixture" }] };
const face = (n: number) => ({ reference: { centroid: [n, 0, 0] } });
const part = {
  summary: {
    bodies: [
      { name: "bracket", kind: "solid", first_face: 0, faces: 3, volume_mm3: 12_345_678, colour: "#ff0000" },
      { name: "clamp", kind: "solid", first_face: 3, faces: 2, volume_mm3: 1000, colour: "" },
    ],
  },
  faces: Array.from({ length: 12 }, (_, n) => face(n)),
  roles: ["part", "fixture"],
};
const bore = (n: number) => ({ kind: "bore", faces: [n], diameter_mm: 6, depth_mm: 20 });
const hole = (name: string, group: number, n: number, rest = {}) => ({
  name,
  group,
  diameter_mm: 6,
  depth_mm: 20,
  through: true,
  faces: [n],
  steps: [bore(n)],
  threads: [],
  ...rest,
});
const holes = [
  hole("hole 1", 1, 1),
  hole("hole 2", 1, 2),
  hole("hole 3", 0, 4, {
    diameter_mm: 5.0004,
    through: false,
    threads: ["M6"],
    faces: [3, 4],
    steps: [{ kind: "counterbore", faces: [3], diameter_mm: 10, depth_mm: 5.5 }, bore(4)],
  }),
];

const open = (what: React.ReactNode, doc = {}, answers = {}, found: unknown = { holes }) => {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  client.setQueryData(["part", "j", file], part);
  if (found) client.setQueryData(["features", "j", file, null], found);
  const asked = server(answers);
  const j = job({ part: file, hole_choices: [], ...doc } as never, {
    run: vi.fn(async (work) => {
      await work();
      return "";
    }),
  });
  inJob(what, j, view({ stage: "part" }), client);
  return { j, asked };
};

describe("the table of holes", () => {
  const cells = (row: HTMLElement) =>
    within(row)
      .getAllByRole("cell")
      .map((c) => c.textContent);

  it("has a row for holes alike, the smallest first, with their steps and threads", () => {
    open(<HoleTable />);
    const [, first, second] = screen.getAllByRole("row");
    expect(cells(first).slice(0, 5)).toEqual(["1", "5", "20", "blind, counterbore ⌀10 × 5.5", "M6"]);
    expect(cells(second).slice(0, 4)).toEqual(["2", "6", "20", "through"]);
  });

  it("shows how holes are made, and says where those alike differ", () => {
    open(<HoleTable />, {
      hole_choices: [
        { face: { centroid: [2, 0, 0] }, way: "ream" },
        { face: { centroid: [4, 0, 0] }, way: "leave" },
      ],
    });
    const [small, large] = ["5", "6"].map((d) =>
      screen.getByRole<HTMLInputElement>("combobox", { name: `How holes of ${d} mm are made` }),
    );
    expect(small.value).toBe("leave");
    expect(large.value).toBe("");
    expect(large.placeholder).toBe("differs");
  });

  it("has them made another way, and tells which are left", async () => {
    const { j, asked } = open(
      <HoleTable />,
      {},
      {
        "POST /api/jobs/j/holes/way": () => ({ job: {}, uncovered: [{ why: "no reamer of 6 mm" }, { why: "x" }] }),
      },
    );
    await choose("How holes of 6 mm are made", "ream");
    await waitFor(() => expect(j.setNote).toHaveBeenCalledWith("2 holes left: no reamer of 6 mm."));
    expect(asked[0].body).toEqual({ faces: [1, 2], way: "ream" });
    expect(picks.get().faces).toEqual([]);
  });

  it("picks and lights the faces of all that are alike", () => {
    open(<HoleTable />);
    const [, first, second] = screen.getAllByRole("row");
    fireEvent.mouseEnter(first);
    expect(picks.get().lit).toEqual([3, 4]);
    fireEvent.mouseLeave(first);
    expect(picks.get().lit).toEqual([]);
    fireEvent.click(second);
    expect(picks.get().faces).toEqual([1, 2]);
    fireEvent.keyDown(first, { key: "Enter" });
    expect(picks.get().faces).toEqual([3, 4]);
  });

  it("says that there are none, that it looks, or why it cannot", async () => {
    open(<HoleTable />, {}, {}, { holes: [] });
    expect(screen.getByText("The part has no holes.")).toBeTruthy();
    cleanup();
    const broken = () => Response.json({ title: "Only an exact solid has features.", status: 422 }, { status: 422 });
    open(<HoleTable />, {}, { "GET /api/jobs/j/part/features": broken }, null);
    expect(screen.getByText("Looking for holes …")).toBeTruthy();
    expect(await screen.findByText("Only an exact solid has features.")).toBeTruthy();
  });
});

describe("the health of a model", () => {
  const health = (answer: unknown) => open(<Health />, {}, { "GET /api/jobs/j/part/health": () => answer });
  it("lists what was found, where, and whether it was mended", async () => {
    health([
      { kind: "open edge", mended: false, place: [1, 2.345, 3], message: "Two faces do not meet." },
      { kind: "sliver", mended: true, place: null, message: "Taken out." },
    ]);
    expect((await screen.findByText("open edge")).closest("tr")!.textContent).toBe(
      "open edge△ no1, 2.35, 3Two faces do not meet.",
    );
    expect(screen.getByText("sliver").closest("tr")!.textContent).toBe("sliver✓ yesTaken out.");
  });
  it("says that it is sound, or what failed", async () => {
    health([]);
    expect(await screen.findByText(/The model is sound/)).toBeTruthy();
    cleanup();
    health(Response.json({ title: "The file is gone.", status: 404 }, { status: 404 }));
    expect((await screen.findByText("The file is gone.")).className).toContain("fault");
  });
});

describe("the bodies of a model", () => {
  it("are told with what they are, and lit in the view", () => {
    open(<Bodies />);
    const row = screen.getByText("bracket").closest("tr")!;
    expect(row.textContent).toContain("12 345.68");
    fireEvent.mouseEnter(screen.getByText("clamp").closest("tr")!);
    expect(picks.get().lit).toEqual([3, 4]);
    expect(screen.getByRole<HTMLInputElement>("combobox", { name: "What clamp is" }).value).toBe("fixture");
  });
  it("get another role, the part's own being none", async () => {
    const { j } = open(<Bodies />);
    await choose("What bracket is", "stock");
    expect(j.edit).toHaveBeenCalledWith(
      [{ path: "part/roles", value: [...file.roles, { body: "bracket", role: "stock" }], was: file.roles }],
      "bracket is stock",
    );
    await choose("What clamp is", "part");
    expect(vi.mocked(j.edit).mock.calls[1][0][0].value).toEqual([]);
  });
});

describe("what is picked", () => {
  const many = Array.from({ length: 75 }, () => ({ kind: "plane", area_mm2: 2, centroid: [0, 0, 0] }));
  const openPicked = (faces: number) => {
    pick({ faces: many.slice(0, faces).map((_, k) => k) });
    const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
    client.setQueryData(["part", "j", file], { ...part, faces: many });
    inJob(<Picked />, job({ part: file } as never), view({ stage: "part" }), client);
  };

  it("says how many faces the list leaves out", () => {
    openPicked(75);
    expect(screen.getAllByText(/^plane/)).toHaveLength(60);
    expect(screen.getByText("and 15 more")).toBeTruthy();
  });

  it("leaves none out of a short one", () => {
    openPicked(60);
    expect(screen.getAllByText(/^plane/)).toHaveLength(60);
    expect(screen.queryByText(/more$/)).toBeNull();
  });
});
