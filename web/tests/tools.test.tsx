// @vitest-environment jsdom
import { choose, inJob, job, server, view } from "./screen";
import { QueryClient } from "@tanstack/react-query";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Tool } from "../src/job/document";
import { CutterForm } from "../src/stages/tools/CutterForm";
import { ShankForm } from "../src/stages/tools/ShankForm";
import { StickOut } from "../src/stages/tools/StickOut";
import { ToolForm } from "../src/stages/tools/ToolForm";

afterEach(cleanup);

const number = (title: string) => ({ type: "number", title, unit: "mm", exclusiveMinimum: 0 });
const kind = (rest: object, required: string[]) => ({
  required: ["kind", ...required],
  properties: { kind: {}, diameter_mm: number("Diameter"), flute_length_mm: number("Flutes"), ...rest },
});
const schema = {
  $defs: {
    Tool: {
      properties: {
        cutter: { discriminator: { mapping: { flat: "#/$defs/F", "bull-nose": "#/$defs/B", tap: "#/$defs/T" } } },
        stick_out_mm: number("Stick-out"),
        shank_diameter_mm: number("Shank"),
        neck_diameter_mm: number("Neck"),
        neck_length_mm: number("Neck length"),
        length_mm: number("Length"),
        ...Object.fromEntries(
          [
            "material",
            "coating",
            "use",
            "length_offset",
            "diameter_offset",
            "cutting_feed_mm_min",
            "entry_feed_mm_min",
            "exit_feed_mm_min",
          ].map((name) => [name, { type: "string", title: name }]),
        ),
        spindle_rpm: { type: "number", title: "Spindle speed", unit: "rpm" },
      },
    },
    F: kind({}, ["diameter_mm", "flute_length_mm"]),
    B: kind({ corner_radius_mm: number("Corner") }, ["diameter_mm", "flute_length_mm", "corner_radius_mm"]),
    T: kind({ pitch_mm: number("Pitch"), thread: { type: "string", title: "Thread" } }, [
      "diameter_mm",
      "pitch_mm",
      "flute_length_mm",
    ]),
  },
};
const tables = {
  threads: [{ name: "M8", major_mm: 8, pitch_mm: 1.25 }],
  holders: [
    {
      name: "Chuck 20",
      sections: [{ lower_diameter_mm: 50, upper_diameter_mm: 50, height_mm: 60 }],
      grips: [2, 20],
      source: "our own",
    },
  ],
};
const flat = { kind: "flat", diameter_mm: 10, flute_length_mm: 5 };
const tool = (rest = {}) =>
  ({
    number: 4,
    name: "",
    cutter: flat,
    stick_out_mm: 40,
    holder_name: "",
    holder: [
      { lower_diameter_mm: 24, upper_diameter_mm: 30, height_mm: 30 },
      { lower_diameter_mm: 30, upper_diameter_mm: 30, height_mm: 10 },
    ],
    ...rest,
  }) as unknown as Tool;

const open = async (what: React.ReactNode, more: Parameters<typeof server>[0] = {}, doc = {}) => {
  const asked = server({
    "GET /api/schema": () => schema,
    "GET /api/library/tables": () => tables,
    "POST /api/tools/outline": () => [
      {
        name: "cutter",
        points: [
          [0, 0],
          [5, 0],
          [5, 20],
        ],
      },
    ],
    ...more,
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  const j = job({ part: { file: "x" }, ...doc } as never),
    v = view();
  inJob(what, j, v, client);
  await waitFor(() => expect(asked.length).toBeGreaterThan(0));
  return { j, v, asked, last: () => vi.mocked(j.edit).mock.calls.at(-1)![0] };
};

describe("the cutter of a tool", () => {
  it("changes a measure and leaves the others", async () => {
    const draft = vi.fn();
    const { last, j } = await open(<CutterForm tool={tool()} onDraft={draft} />);
    const box = await screen.findByLabelText("Diameter, mm");
    fireEvent.change(box, { target: { value: "12" } });
    expect(draft).toHaveBeenCalledWith({ diameter_mm: 12 });
    expect(j.edit).not.toHaveBeenCalled();
    fireEvent.blur(box);
    await waitFor(() =>
      expect(last()).toEqual([{ path: "tools/4/cutter", value: { ...flat, diameter_mm: 12 }, was: flat }]),
    );
  });

  it("becomes another kind with what that needs from what is there", async () => {
    const { last } = await open(<CutterForm tool={tool()} onDraft={vi.fn()} />);
    await screen.findByLabelText("Diameter, mm");
    await choose("Kind", "bull-nose");
    expect(last()[0].value).toEqual({ kind: "bull-nose", diameter_mm: 10, flute_length_mm: 12, corner_radius_mm: 1 });
  });

  it("of a tap takes pitch and diameter from a thread", async () => {
    const tap = { kind: "tap", diameter_mm: 10, flute_length_mm: 20, pitch_mm: 1.5, thread: "" };
    const { last } = await open(<CutterForm tool={tool({ cutter: tap })} onDraft={vi.fn()} />);
    await screen.findByLabelText("Pitch, mm");
    await waitFor(() => choose("Thread", "M8"));
    expect(last()[0].value).toEqual({ ...tap, thread: "M8", pitch_mm: 1.25, diameter_mm: 8 });
  });
});

describe("shank and holder", () => {
  it("take a holder of the shop with its name", async () => {
    const { j } = await open(<ShankForm tool={tool()} onDraft={vi.fn()} />);
    await waitFor(() => choose("Holder", "Chuck 20"));
    expect(vi.mocked(j.edit).mock.calls.at(-1)).toEqual([
      [
        { path: "tools/4/holder", value: tables.holders[0].sections, was: tool().holder },
        { path: "tools/4/holder_name", value: "Chuck 20", was: "" },
      ],
      "holder",
    ]);
  });

  it("change, lose and gain a section", async () => {
    const { last } = await open(<ShankForm tool={tool()} onDraft={vi.fn()} />);
    fireEvent.click(screen.getByText("Sections"));
    const height = screen.getAllByLabelText("Height, mm")[1];
    fireEvent.change(height, { target: { value: "15" } });
    fireEvent.blur(height);
    const [first, second] = tool().holder;
    await waitFor(() => expect(last()[0].value).toEqual([first, { ...second, height_mm: 15 }]));
    fireEvent.click(screen.getByLabelText("Remove holder section 1"));
    expect(last()[0].value).toEqual([second]);
    fireEvent.click(screen.getByText("Add a holder section"));
    expect((last()[0].value as unknown[]).length).toBe(3);
  });
});

describe("the shortest stick-out", () => {
  const offer = (shortest_mm: number, bound = "holder", operations: unknown[] = []) => {
    const urls: URL[] = [],
      taken = vi.fn();
    const answer = (_: unknown, url: URL) => (urls.push(url), { shortest_mm, bound, place: [0, 0, 0] });
    void open(
      <StickOut tool={tool()} onTake={taken} />,
      { "GET /api/jobs/j/tools/4/stick-out": answer },
      { operations },
    );
    return { taken, urls };
  };

  it("is rounded up, warns, and can be taken", async () => {
    const { taken } = offer(43.01);
    const text = await screen.findByText("△ too short: shortest safe 43.1 mm");
    expect(text.className).toContain("fault");
    fireEvent.click(screen.getByText("Use it"));
    expect(taken).toHaveBeenCalledWith(43.1);
  });

  it("is that of the row in this setup, and offers nothing where it stands already", async () => {
    const { urls } = offer(40, "cutting length", [
      { number: 10, tool: 4, setup: "b" },
      { number: 20, tool: 4, setup: "a" },
    ]);
    expect(await screen.findByText("shortest safe 40 mm (its cutting length) for 20")).toBeTruthy();
    expect(urls[0].searchParams.get("operation")).toBe("20");
    expect(screen.queryByText("Use it")).toBeNull();
  });
});

describe("the form of a tool", () => {
  it("keeps it in the library, says what speaks against that, and removes it", async () => {
    let fault = false;
    const keep = () => (fault ? Response.json({ title: "There is one like it.", status: 409 }, { status: 409 }) : {});
    const { j, v, last } = await open(<ToolForm tool={tool()} />, { "POST /api/jobs/j/tools/4/keep": keep });
    fireEvent.click(screen.getByText("Keep in the library"));
    await waitFor(() => expect(j.setNote).toHaveBeenLastCalledWith("T4 is in the shop's library now.", true));
    fault = true;
    fireEvent.click(screen.getByText("Keep in the library"));
    await waitFor(() => expect(j.setNote).toHaveBeenLastCalledWith("There is one like it."));
    fireEvent.click(screen.getByText("Remove this tool"));
    expect(last()).toEqual([{ op: "remove", path: "tools/4" }]);
    expect(v.set).toHaveBeenCalledWith({ tool: null });
  });

  it("draws what is typed before it is kept", async () => {
    const { asked, j } = await open(<ToolForm tool={tool()} />);
    const box = await screen.findByLabelText("Stick-out, mm");
    fireEvent.change(box, { target: { value: "55" } });
    await waitFor(() =>
      expect(
        asked.filter((a) => a.what === "POST /api/tools/outline").map((a) => (a.body as Tool).stick_out_mm),
      ).toEqual([40, 55]),
    );
    expect(j.edit).not.toHaveBeenCalled();
  });
});
