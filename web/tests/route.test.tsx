// @vitest-environment jsdom
import { encode } from "./block";
import { choose, inJob, job, server, view } from "./screen";
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { pick, pickNothing, picks } from "../src/job/picking";
import { IdleRows } from "../src/stages/route/IdleRows";
import { LeftOver, OrderOffer } from "../src/stages/route/LeftOver";
import { RouteBench } from "../src/stages/route/RouteBench";
import { LeftLegend } from "../src/viewport/LeftMap";
import { ManyForm } from "../src/stages/route/ManyForm";
import { OperationForm } from "../src/stages/route/OperationForm";
import { RouteProposal } from "../src/stages/route/RouteProposal";
import { RouteTable } from "../src/stages/route/RouteTable";
import type { JobDocument, Operation } from "../src/job/document";

const tool = (number: number, rest = {}) => ({
  number,
  name: "",
  cutter: { kind: "flat", diameter_mm: 10 },
  spindle_rpm: 8000,
  cutting_feed_mm_min: 900,
  ...rest,
});
const row = (number: number, setup: string, rest = {}, params = {}) => ({
  number,
  setup,
  name: "",
  tool: 1,
  enabled: true,
  spindle_rpm: null,
  cutting_feed_mm_min: null,
  copies: null,
  params: { strategy: "parallel finishing", allowance_mm: 0, stepover_mm: 0.4, scallop_mm: null, ...params },
  ...rest,
});
const doc = (rest: Partial<Record<keyof JobDocument, unknown>> = {}) =>
  ({
    part: { file: "lantern.step" },
    tools: [tool(1), tool(2, { name: "long ball" })],
    setups: [
      { id: "a", name: "Top" },
      { id: "b", name: "" },
    ],
    operations: [
      row(10, "a", { name: "dome" }),
      row(20, "a", { tool: 2, spindle_rpm: 5000.4 }),
      row(30, "b", { enabled: false }, { strategy: "drilling", stepover_mm: undefined, scallop_mm: undefined }),
    ],
    sketches: [],
    recipe: {},
    ...rest,
  }) as never;
const status = {
  operations: [
    { number: 10, state: "ready", time_s: 120, path_key: "p" },
    { number: 20, state: "computing", fraction: 0.42, time_s: 60 },
    { number: 30, state: "failed", reason: "The tool is too short.", time_s: null },
  ],
  setups: [{ id: "a", time_s: 180 }],
  tasks: [],
} as never;

afterEach(cleanup);
beforeEach(pickNothing);

const table = (rest: Parameters<typeof doc>[0] = {}, rows: number[] = []) => {
  const j = job(doc(rest), { status }),
    v = view({ rows });
  inJob(<RouteTable />, j, v);
  const line = (text: string | RegExp) => screen.getAllByText(text)[0].closest("tr")!;
  return { j, v, line };
};

describe("the route sheet", () => {
  it("groups rows by setup, with their time and state", () => {
    const { line } = table();
    const [, top, base] = screen.getAllByRole("rowgroup");
    expect(within(top).getAllByRole("row")).toHaveLength(3);
    expect(within(base).getAllByRole("row")).toHaveLength(2);
    expect(within(top).getByText("3:00")).toBeTruthy();
    expect(within(line("dome")).getByText("✓ ready")).toBeTruthy();
    expect(within(line("T2 long ball")).getByText("… computing 42 %")).toBeTruthy();
    expect(screen.getByText("✕ failed").className).toBe("fault");
  });

  it("moves a row by keyboard, within its setup", () => {
    const { j, line } = table();
    const rows = j.doc.operations.map((o) => o.number);
    fireEvent.keyDown(line("dome"), { key: "ArrowDown", altKey: true });
    expect(j.edit).toHaveBeenCalledWith(
      [{ op: "move", path: `operations/${rows[0]}`, value: 1, check: false }],
      "reorder",
    );
    vi.mocked(j.edit).mockClear();
    fireEvent.keyDown(line("dome"), { key: "ArrowUp", altKey: true });
    fireEvent.keyDown(line("dome"), { key: "ArrowDown" });
    expect(j.edit).not.toHaveBeenCalled();
  });

  it("shows a row's own speed before that of its tool", () => {
    const { line } = table();
    expect(within(line("T2 long ball")).getByText("5000")).toBeTruthy();
    expect(within(line("dome")).getByText("8000")).toBeTruthy();
    expect(within(line("T2 long ball")).getByText("900")).toBeTruthy();
  });

  it("has a cell for the step that the strategy goes by, and none where it has no step", () => {
    const { line } = table({
      operations: [
        row(10, "a", {}, { stepover_mm: null, scallop_mm: 0.01 }),
        row(30, "b", {}, { strategy: "drilling", stepover_mm: undefined, scallop_mm: undefined }),
      ],
    });
    expect(screen.getByLabelText<HTMLInputElement>("Step of 10").value).toBe("0.01");
    expect(screen.queryByLabelText("Step of 30")).toBeNull();
    expect(within(line("drilling")).getAllByText("–").length).toBeGreaterThan(0);
  });

  it("takes one row with a click, more with Shift, and gives one up again", () => {
    const { v, line } = table({}, [10]);
    fireEvent.click(line("T2 long ball"));
    expect(v.set).toHaveBeenLastCalledWith({ rows: [20], setup: "a" });
    fireEvent.click(line("drilling"), { shiftKey: true });
    expect(v.set).toHaveBeenLastCalledWith({ rows: [10, 30], setup: "b" });
    fireEvent.click(line("dome"), { ctrlKey: true });
    expect(v.set).toHaveBeenLastCalledWith({ rows: [], setup: "a" });
    fireEvent.keyDown(line("drilling"), { key: "Enter" });
    expect(v.set).toHaveBeenLastCalledWith({ rows: [30], setup: "b" });
  });

  it("changes a cell in place; the old value goes with it", async () => {
    const { j, v } = table();
    const cell = screen.getByLabelText("Allowance of 10");
    fireEvent.click(cell);
    fireEvent.change(cell, { target: { value: "0,25" } });
    fireEvent.blur(cell);
    await waitFor(() => expect(j.edit).toHaveBeenCalled());
    expect(vi.mocked(j.edit).mock.calls[0][0]).toEqual([
      { path: "operations/10/params/allowance_mm", value: 0.25, was: 0 },
    ]);
    expect(v.set).not.toHaveBeenCalled();
  });

  it("puts a cell back that was refused, given up, or is no number", async () => {
    const { j } = table();
    server({ "POST /api/number": () => Response.json({ title: "“x” is no number.", status: 422 }, { status: 422 }) });
    const cell = screen.getByLabelText<HTMLInputElement>("Step of 10");
    fireEvent.change(cell, { target: { value: "x" } });
    fireEvent.blur(cell);
    await waitFor(() => expect(j.setNote).toHaveBeenCalledWith("“x” is no number."));
    expect(cell.value).toBe("0.4");
    fireEvent.change(cell, { target: { value: "7" } });
    fireEvent.keyDown(cell, { key: "Escape" });
    expect(cell.value).toBe("0.4");
    vi.mocked(j.edit).mockResolvedValueOnce("Too wide.");
    fireEvent.change(cell, { target: { value: "70" } });
    fireEvent.blur(cell);
    await waitFor(() => expect(cell.value).toBe("0.4"));
    expect(j.edit).toHaveBeenCalledTimes(1);
  });

  it("duplicates under the next ten, and switches off and on", () => {
    const { j, v } = table();
    fireEvent.click(screen.getByLabelText("Duplicate 10"));
    const [{ op, path, value }] = vi.mocked(j.edit).mock.calls[0][0];
    expect([op, path, (value as Operation).number, (value as Operation).name]).toEqual([
      "add",
      "operations",
      40,
      "dome",
    ]);
    fireEvent.click(screen.getByLabelText("Switch 10 off"));
    expect(vi.mocked(j.edit).mock.calls[1][0]).toEqual([{ path: "operations/10/enabled", value: false, was: true }]);
    fireEvent.click(screen.getByLabelText("Switch 30 on"));
    expect(vi.mocked(j.edit).mock.calls[2][0]).toEqual([{ path: "operations/30/enabled", value: true, was: false }]);
    expect(v.set).not.toHaveBeenCalled();
  });

  it("moves a row to the place of the one it is dropped on, and nowhere on itself", () => {
    const { j, line } = table();
    fireEvent.dragStart(line("drilling"));
    fireEvent.drop(line("drilling"));
    expect(j.edit).not.toHaveBeenCalled();
    fireEvent.drop(line("dome"));
    expect(vi.mocked(j.edit).mock.calls[0][0][0]).toMatchObject({ op: "move", path: "operations/30", value: 0 });
  });

  it("computes a setup, but not an empty one", () => {
    const { j } = table({ operations: [row(10, "a")] });
    const [first, second] = screen.getAllByText("Compute and prove").map((b) => b.closest("button")!);
    fireEvent.click(first);
    expect(j.compute).toHaveBeenCalledWith("a");
    expect(second.disabled).toBe(true);
  });

  it("says how to begin where there are no rows", () => {
    table({ operations: [] });
    expect(screen.getByText(/No operations yet/)).toBeTruthy();
  });
});

describe("the map of what is left", () => {
  const places = (meta: object, state: number[]) =>
    new Response(
      encode(meta, {
        places: new Float32Array(3 * state.length),
        thick: new Float32Array(state.length),
        state: new Uint8Array(state),
      }),
    );
  it("says what its dots mean, and how much stands where that was measured", async () => {
    server({ "GET /api/jobs/j/left-over/places": () => places({ measured: true, most_mm: 2.5 }, [0, 0, 1]) });
    inJob(<LeftLegend />, job(doc()), view({ leftOver: true }));
    expect((await screen.findByLabelText("What is left on the part")).textContent).toBe(
      "As cut:finishedleft, up to 2.50 mm",
    );
    cleanup();
    server({ "GET /api/jobs/j/left-over/places": () => places({ measured: false, most_mm: 9 }, [1, 2]) });
    inJob(<LeftLegend />, job(doc()), view({ leftOver: true }));
    expect((await screen.findByLabelText("What is left on the part")).textContent).toBe(
      "As the rows will leave it:leftnot seen by any setup",
    );
  });
  it("comes and goes with the list under the route", async () => {
    server({ "GET /api/jobs/j/finish": () => ({ finished_fraction: 1, left_over: [], measured: false }) });
    const set = vi.fn();
    inJob(<RouteBench />, job(doc()), view({ stage: "route", set }));
    fireEvent.click(screen.getByRole("tab", { name: /Left over/ }));
    expect(set).toHaveBeenCalledWith({ leftOver: true });
    cleanup();
    inJob(<RouteBench />, job(doc()), view({ stage: "route", leftOver: true, set }));
    expect(screen.getByRole("tab", { name: /Left over/ }).getAttribute("aria-selected")).toBe("true");
    fireEvent.click(screen.getByRole("tab", { name: "Route sheet" }));
    expect(set).toHaveBeenLastCalledWith({ leftOver: false });
  });
});

describe("what is left over", () => {
  const features = [{ name: "hole 3", kind: "hole", words: "⌀6", why: "no drill", faces: [4, 5] }];
  const faces = [
    { face: 9, area_mm2: 120.4, most_mm: 2.5, why: "no row", would_do: "waterline from Top", setup: "a" },
    { face: 12, area_mm2: 3, most_mm: 0.2, why: "it is not seen from any setup", would_do: "", setup: "" },
  ];
  const finish = { finished_fraction: 0.964, left_over: faces, measured: true };
  const open = (answers: object) => {
    const asked = server({
      "GET /api/jobs/j/coverage": () => ({ features: 7, uncovered: features }),
      "GET /api/jobs/j/finish": () => finish,
      "POST /api/jobs/j/left-over": () => ({ job: { document: {} } }),
      ...answers,
    } as never);
    const j = job(doc(), { run: vi.fn(async (work) => (await work(), "")) });
    return { asked, j, ...inJob(<LeftOver />, j, view()) };
  };
  it("is told by face with its share of the surface, and picks its faces", async () => {
    open({});
    expect(await screen.findByText("Finished, measured: 96.4 % of the surface; 2 faces left.")).toBeTruthy();
    fireEvent.click(await screen.findByText(/hole 3/));
    expect(picks.get().faces).toEqual([4, 5]);
    fireEvent.mouseEnter(screen.getByText("waterline from Top").closest("tr")!);
    expect(picks.get().lit).toEqual([9]);
    fireEvent.mouseLeave(screen.getByText("waterline from Top").closest("tr")!);
    expect(picks.get().lit).toEqual([]);
    fireEvent.click(screen.getByText("Show them all"));
    expect(picks.get().faces).toEqual([9, 12]);
  });
  it("gets rows by one click, where a setup sees it", async () => {
    const { asked } = open({});
    fireEvent.click(await screen.findByLabelText("Make rows for face 9"));
    const made = () => asked.filter((a) => a.what === "POST /api/jobs/j/left-over").map((a) => a.body);
    await waitFor(() => expect(made()).toEqual([{ faces: [9] }]));
    expect((screen.getByLabelText("Make rows for face 12") as HTMLButtonElement).disabled).toBe(true);
    fireEvent.click(screen.getByText("Rows for all"));
    await waitFor(() => expect(made()).toHaveLength(2));
    expect(made()[1]).toEqual({ faces: [9] });
  });
  it("is nothing, or cannot be told, and says so", async () => {
    const first = open({
      "GET /api/jobs/j/coverage": () => ({ features: 7, uncovered: [] }),
      "GET /api/jobs/j/finish": () => ({ finished_fraction: 1, left_over: [], measured: false }),
    });
    expect(await screen.findByText("The rows will finish 100.0 % of the surface; nothing left.")).toBeTruthy();
    expect(await screen.findByText("✓ All 7 features are made by some operation.")).toBeTruthy();
    first.unmount();
    open({ "GET /api/jobs/j/finish": () => Response.json({ title: "Only meshes.", status: 422 }, { status: 422 }) });
    expect(await screen.findByText("Only meshes.")).toBeTruthy();
  });
});

describe("another order", () => {
  const offer = async (changes_after: number) => {
    const asked = server({
      "GET /api/jobs/j/setups/a/order": () => ({ changes_before: 6, changes_after, saves_s: 47.6 }),
      "POST /api/jobs/j/setups/a/order": () => ({ document: {} }),
    });
    const j = job(doc(), { run: vi.fn(async (work) => (await work(), "")) });
    inJob(<OrderOffer />, j, view());
    await waitFor(() => expect(asked).toHaveLength(1));
    return asked;
  };
  it("is offered with what it saves, and taken", async () => {
    const asked = await offer(4);
    expect(await screen.findByText("6 tool changes; 4 would do, 48 s less.")).toBeTruthy();
    fireEvent.click(screen.getByText("Take that order"));
    await waitFor(() => expect(asked[1].what).toBe("POST /api/jobs/j/setups/a/order"));
  });
  it("is not offered where it saves no change", async () => {
    await offer(6);
    await new Promise((r) => setTimeout(r, 20));
    expect(screen.queryByText("Take that order")).toBeNull();
  });
});

describe("rows that cut nothing", () => {
  const idle = (number: number, state = "ready", cuts: boolean | null = false, reason = "") => ({
    number,
    state,
    cuts,
    reason,
  });
  const offer = (...operations: ReturnType<typeof idle>[]) => {
    const j = job(doc({ operations: [row(10, "a", { name: "dome" }), row(20, "a"), row(30, "b")] }), {
      status: { operations, setups: [], tasks: [] } as never,
    });
    inJob(<IdleRows />, j, view({ setup: "a" }));
    return j;
  };
  it("are named and taken out together, those of the setup only", () => {
    const j = offer(idle(10), idle(20), idle(30));
    expect(screen.getByText("10 dome, 20: proven, and nothing stands where they would cut.")).toBeTruthy();
    fireEvent.click(screen.getByText("Take them out"));
    const removed = ["operations/10", "operations/20"].map((path) => ({ op: "remove", path }));
    expect(j.edit).toHaveBeenCalledWith(removed, "take out rows that cut nothing");
  });
  it("say what they left out, and not that nothing stands there", () => {
    offer(idle(10, "ready", false, "The walls are out of reach."));
    expect(screen.getByText("10 dome: The walls are out of reach.")).toBeTruthy();
    expect(screen.queryByText(/nothing stands/)).toBeNull();
    expect(screen.getByText("Take it out")).toBeTruthy();
  });
  it("are those that are ready and proven: not one that failed, was not proven, or cuts", () => {
    offer(idle(10, "failed"), idle(20, "ready", null), idle(30));
    expect(screen.queryByText(/Take/)).toBeNull();
  });
});

describe("a proposed route", () => {
  const proposal = {
    setups: [{ id: "n", name: "Underneath" }],
    operations: [{ ...row(40, "n"), name: "faces", tool: 2 }],
    tools: [{}],
    reasons: [{ number: 40, rule: "flat faces first" }],
    uncovered: [{ name: "hole 9", words: "⌀2", why: "no drill of 2 mm" }],
    assumed: ["No material is chosen."],
  };
  const open = (answer: unknown = proposal) => {
    const asked: URL[] = [];
    const told = server({
      "GET /api/schema": () => ({ $defs: {} }),
      "GET /api/jobs/j/setups/a/route-proposal": (_, url) => (asked.push(url), answer),
      "POST /api/jobs/j/setups/a/route-proposal": (_, url) => (asked.push(url), { document: {} }),
      "PUT /api/library/recipe": () => ({}),
      "GET /api/library/materials": () => [],
    });
    const close = vi.fn();
    const j = job({ ...doc(), materials: [], material: "" } as never, {
      run: vi.fn(async (work) => (await work(), "")),
    });
    inJob(<RouteProposal onClose={close} />, j, view());
    return { asked, told, close, j };
  };

  it("tells its rows with the rule behind each, and what it leaves", async () => {
    open();
    const rows = await screen.findByLabelText("Proposed rows");
    expect(rows.textContent).toContain("40faces T2 · flat faces first");
    expect(rows.textContent).toContain("△hole 9, ⌀2: no drill of 2 mm");
    expect(screen.getByText(/1 new setup/).textContent).toBe(
      "1 new setup, 1 row, 1 tool from the shop, △ 1 feature left",
    );
    expect(screen.getByText("△ No material is chosen.")).toBeTruthy();
    expect(screen.getByPlaceholderText("Choose the material")).toBeTruthy();
  });

  it("is asked for again for all sides, and taken as it was shown", async () => {
    const { asked, close } = open();
    await screen.findByLabelText("Proposed rows");
    fireEvent.click(screen.getByText("All sides of the part"));
    await waitFor(() => expect(asked).toHaveLength(2));
    expect(asked[1].searchParams.get("sides")).toBe("all");
    await waitFor(() => expect(screen.getByLabelText("Proposed rows").textContent).toContain("Underneath: faces"));
    fireEvent.click(screen.getByText("Take this route"));
    await waitFor(() => expect(close).toHaveBeenCalled());
    expect(asked[2].searchParams.get("sides")).toBe("all");
  });

  it("cannot be taken where it is empty, and says why there is none", async () => {
    open({ ...proposal, operations: [] });
    const button = (await screen.findByText("Take this route")).closest("button")!;
    expect(button.disabled).toBe(true);
    cleanup();
    open(Response.json({ title: "The part is a mesh.", status: 422 }, { status: 422 }));
    expect(await screen.findByText("The part is a mesh.")).toBeTruthy();
  });

  it("keeps its rules for the shop", async () => {
    const { told, j } = open();
    fireEvent.click(screen.getByText("Keep these rules for the shop"));
    await waitFor(() => expect(j.setNote).toHaveBeenCalledWith("The rules are kept for new jobs.", true));
    expect(told.some((a) => a.what === "PUT /api/library/recipe")).toBe(true);
  });
});

const schema = {
  $defs: {
    Operation: {
      properties: {
        params: { discriminator: { mapping: { "parallel finishing": "#/$defs/P", drilling: "#/$defs/D" } } },
        copies: { anyOf: [{ discriminator: { mapping: { mirrored: "#/$defs/M" } } }] },
        spindle_rpm: { type: "number", title: "Spindle" },
        cutting_feed_mm_min: { type: "number", title: "Feed" },
      },
    },
    P: {
      properties: {
        strategy: { const: "parallel finishing" },
        allowance_mm: { type: "number", title: "Allowance", unit: "mm" },
        stepover_mm: { type: "number", title: "Stepover", unit: "mm" },
        scallop_mm: { type: "number", title: "Scallop height", unit: "mm" },
        boundary: { title: "Boundary" },
      },
    },
    D: {
      properties: {
        allowance_mm: { type: "number", title: "Allowance", unit: "mm" },
        peck_mm: { type: "number", title: "Peck", unit: "mm" },
      },
    },
    M: { properties: { at_mm: { type: "number", title: "Mirror at", unit: "mm" } } },
  },
};

describe("many rows together", () => {
  const many = async (operations: Operation[]) => {
    server({ "GET /api/schema": () => schema });
    const j = job(doc());
    inJob(<ManyForm operations={operations} />, j, view());
    await screen.findByLabelText("Allowance, mm");
    return j;
  };
  const [one, two] = [row(10, "a", {}, { allowance_mm: 0.3 }), row(20, "a")] as unknown as Operation[];

  it("get one value, each told with what it was", async () => {
    const j = await many([one, two]);
    const box = screen.getByLabelText("Allowance, mm");
    fireEvent.change(box, { target: { value: "0.5" } });
    fireEvent.blur(box);
    await waitFor(() => expect(j.edit).toHaveBeenCalled());
    expect(vi.mocked(j.edit).mock.calls[0][0]).toEqual([
      { path: "operations/10/params/allowance_mm", value: 0.5, was: 0.3 },
      { path: "operations/20/params/allowance_mm", value: 0.5, was: 0 },
    ]);
  });

  it("take all values of the first, its geometry left alone", async () => {
    const j = await many([one, two]);
    fireEvent.click(screen.getByText("Values of 10 to all"));
    const paths = vi.mocked(j.edit).mock.calls[0][0].map((e) => e.path);
    expect(paths).toContain("operations/20/params/allowance_mm");
    expect(paths).not.toContain("operations/20/params/strategy");
    expect(paths.every((p) => p.startsWith("operations/20/"))).toBe(true);
    expect(screen.getByText("Geometry of 10 to all").closest("button")!.disabled).toBe(true);
  });

  it("of different strategies share only what all have", async () => {
    await many([one, row(30, "a", {}, { strategy: "drilling" }) as unknown as Operation]);
    expect(screen.queryByLabelText("Stepover, mm")).toBeNull();
    expect(screen.getByText("Values of 10 to all").closest("button")!.disabled).toBe(true);
  });
});

describe("the form of a row", () => {
  const form = async (operation = {}, params = {}, rest: Parameters<typeof doc>[0] = {}) => {
    server({ "GET /api/schema": () => schema });
    const j = job(doc(rest), { status }),
      v = view({ rows: [10] });
    const o = row(10, "a", operation, { boundary: { kind: "part outline" }, ...params }) as unknown as Operation;
    inJob(<OperationForm operation={o} />, j, v);
    await screen.findByLabelText("Allowance, mm");
    return { j, v, last: () => vi.mocked(j.edit).mock.calls.at(-1)![0] };
  };

  it("names it, gives it another tool, and removes it", async () => {
    const { j, v, last } = await form();
    const box = screen.getByLabelText("What it does");
    fireEvent.blur(box);
    expect(j.edit).not.toHaveBeenCalled();
    fireEvent.change(box, { target: { value: "dome, fine" } });
    fireEvent.blur(box);
    expect(last()).toEqual([{ path: "operations/10/name", value: "dome, fine", was: "" }]);
    await choose("Tool", "T2 long ball");
    expect(last()).toEqual([{ path: "operations/10/tool", value: 2, was: 1 }]);
    fireEvent.click(screen.getByText("Remove this row"));
    expect(last()).toEqual([{ op: "remove", path: "operations/10" }]);
    expect(v.set).toHaveBeenCalledWith({ rows: [] });
  });

  it("goes by stepover or scallop height, and shows the one of both", async () => {
    const { last } = await form();
    expect(screen.queryByLabelText("Scallop height, mm")).toBeNull();
    fireEvent.click(screen.getByText("Scallop height"));
    expect(last()).toEqual([
      { path: "operations/10/params/stepover_mm", value: null, was: 0.4 },
      { path: "operations/10/params/scallop_mm", value: 0.01, was: null },
    ]);
    cleanup();
    const scallop = await form({}, { stepover_mm: null, scallop_mm: 0.02 });
    expect(screen.queryByLabelText("Stepover, mm")).toBeNull();
    fireEvent.click(screen.getByText("Stepover"));
    expect(scallop.last()[0]).toEqual({ path: "operations/10/params/scallop_mm", value: null, was: 0.02 });
  });

  it("is fenced by picked faces or a sketch", async () => {
    const { last } = await form({}, {}, { sketches: [{ id: "s", name: "Fence" }] });
    fireEvent.click(screen.getByText("Picked faces"));
    expect(picks.get().purpose).toBe("boundary");
    fireEvent.click(screen.getAllByText("Sketch")[0]);
    expect(picks.get().purpose).toBe("");
    expect(last()).toEqual([
      { path: "operations/10/params/boundary", value: { kind: "sketch", sketch: "s" }, was: { kind: "part outline" } },
    ]);
  });

  it("says what could not be reached and where its feed is held back, with place and way out", async () => {
    const { QueryClient } = await import("@tanstack/react-query");
    const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
    const unreached = [{ reason: "The wall leans inwards.", advice: "Use a lollipop.", place: [1, 2.25, -3] }];
    const feed_limits = [
      { words: "the machine feeds at most 4000 mm/min", motions: 12, least_share: 0.634, place: [4, 5, 6] },
      { words: "the machine's acceleration allows no more", motions: 1, least_share: 0.5, place: [7, 8, 9] },
    ];
    client.setQueryData(["path", "j", 10, "p"], { meta: { unreached, feed_limits } });
    server({ "GET /api/schema": () => schema });
    inJob(<OperationForm operation={row(10, "a") as unknown as Operation} />, job(doc(), { status }), view(), client);
    expect((await screen.findByText(/The wall leans/)).textContent).toBe(
      "◆ The wall leans inwards. Use a lollipop. at 1.0, 2.3, -3.0",
    );
    expect(screen.getByText(/the machine feeds/).textContent).toBe(
      "On 12 arcs the edge keeps down to 63 % of the feed: the machine feeds at most 4000 mm/min, at 4.0, 5.0, 6.0",
    );
    expect(screen.getByText(/acceleration/).textContent).toContain("On 1 arc the edge keeps down to 50 %");
  });

  it("is copied, and not any more", async () => {
    const { last } = await form();
    await choose("Copies of this path", "mirrored");
    expect(last()).toEqual([{ path: "operations/10/copies", value: { kind: "mirrored" }, was: null }]);
    cleanup();
    const copied = await form({ copies: { kind: "mirrored", at_mm: 4 } });
    const box = await screen.findByLabelText("Mirror at, mm");
    fireEvent.change(box, { target: { value: "6" } });
    fireEvent.blur(box);
    await waitFor(() => expect(copied.last()).toEqual([{ path: "operations/10/copies/at_mm", value: 6, was: 4 }]));
    await choose("Copies of this path", "none");
    expect(copied.last()[0].value).toBeNull();
  });
});

// What a click is for must not outlive the form that asked for it.
afterEach(() => pick({ purpose: "" }));
