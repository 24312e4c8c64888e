// @vitest-environment jsdom
import { server, show } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { NumberField, outOfRange } from "../src/forms/NumberField";
import { SchemaForm, TextField, freshOf, onlyFields, type ModelSchema } from "../src/forms/SchemaForm";

afterEach(cleanup);

/** What was typed in place of what stood there; with a key at its end where one is named. */
const type = (box: HTMLElement, text: string) => {
  const [, words, key] = text.match(/^(.*?)(?:\{(\w+)\})?$/)!;
  fireEvent.change(box, { target: { value: words } });
  if (key) fireEvent.keyDown(box, { key });
  if (key === "Enter") fireEvent.blur(box);
};

describe("a number's range", () => {
  it("is said with its unit, ends that may be taken told from those that may not", () => {
    expect(outOfRange(0, { above: 0 }, "mm")).toBe("Must be above 0 mm.");
    expect(outOfRange(0, { min: 0 }, "mm")).toBe("");
    expect(outOfRange(-1, { min: 0 }, "")).toBe("Must be at least 0.");
    expect(outOfRange(91, { max: 90 }, "deg")).toBe("Must be at most 90 deg.");
    expect(outOfRange(90, { max: 90 }, "deg")).toBe("");
  });
});

describe("a form", () => {
  const schema = { properties: { depth_mm: { type: "number", title: "Depth" } } } as ModelSchema;
  it("tells whoever listens now, though the field itself has not changed", async () => {
    const [first, second] = [vi.fn(), vi.fn()];
    const { rerender } = show(<SchemaForm schema={schema} value={{ depth_mm: 2 }} onChange={first} />);
    rerender(<SchemaForm schema={schema} value={{ depth_mm: 2 }} onChange={second} />);
    type(screen.getByLabelText("Depth"), "3{Enter}");
    await waitFor(() => expect(second).toHaveBeenCalledWith("depth_mm", 3, 2));
    expect(first).not.toHaveBeenCalled();
  });
});

describe("a field for a number", () => {
  const field = (rest: Partial<Parameters<typeof NumberField>[0]> = {}) => {
    const commit = vi.fn<(v: number | null) => Promise<string>>(async () => "");
    show(<NumberField label="Stepdown" value={2} unit="mm" range={{ above: 0 }} onCommit={commit} {...rest} />);
    return { commit, box: screen.getByLabelText<HTMLInputElement>("Stepdown, mm") };
  };

  it("gives what was typed when it is left, or with Enter, and only then", async () => {
    const { commit, box } = field();
    type(box, "3.5");
    expect(commit).not.toHaveBeenCalled();
    fireEvent.blur(box);
    await waitFor(() => expect(commit).toHaveBeenCalledWith(3.5));
  });

  it("takes a comma for a point", async () => {
    const { commit, box } = field();
    type(box, "1,25{Enter}");
    await waitFor(() => expect(commit).toHaveBeenCalledWith(1.25));
  });

  it("says at once what is out of range, and keeps it to itself", async () => {
    const { commit, box } = field();
    type(box, "-1");
    expect(screen.getByText("Must be above 0 mm.")).toBeTruthy();
    fireEvent.blur(box);
    await new Promise((r) => setTimeout(r, 10));
    expect(commit).not.toHaveBeenCalled();
  });

  it("goes back with Escape", async () => {
    const { commit, box } = field();
    type(box, "9{Escape}");
    expect(box.value).toBe("2");
    fireEvent.blur(box);
    expect(commit).not.toHaveBeenCalled();
  });

  it("lets the server read arithmetic and other units, as the quantity that it is", async () => {
    const asked = server({ "POST /api/number": () => ({ value: 9.525 }) });
    const { commit, box } = field();
    type(box, "3/8in{Enter}");
    await waitFor(() => expect(commit).toHaveBeenCalledWith(9.525));
    expect(asked[0].body).toEqual({ text: "3/8in", quantity: "length" });
  });

  it("holds the server's reading against the range too", async () => {
    server({ "POST /api/number": () => ({ value: -4 }) });
    const { commit, box } = field();
    type(box, "=2-6{Enter}");
    await waitFor(() => expect(screen.getByText("Must be above 0 mm.")).toBeTruthy());
    expect(commit).not.toHaveBeenCalled();
  });

  it("says what the server cannot read", async () => {
    server({
      "POST /api/number": () =>
        Response.json({ title: "no", status: 422, detail: "Cannot read “2 ells”." }, { status: 422 }),
    });
    const { box } = field();
    type(box, "2 ells{Enter}");
    await waitFor(() => expect(screen.getByText("Cannot read “2 ells”.")).toBeTruthy());
  });

  it("says why a value was refused, and forgets it when another value comes", async () => {
    const commit = vi.fn(async () => "Tool 4 is too long for that.");
    const { box } = field({ onCommit: commit });
    type(box, "7{Enter}");
    await waitFor(() => expect(screen.getByText("Tool 4 is too long for that.")).toBeTruthy());
  });

  it("may be left empty only where nothing is a choice", async () => {
    const must = field();
    type(must.box, "");
    fireEvent.blur(must.box);
    await waitFor(() => expect(screen.getByText("Type a number.")).toBeTruthy());
    cleanup();
    const may = field({ optional: true });
    type(may.box, "");
    fireEvent.blur(may.box);
    await waitFor(() => expect(may.commit).toHaveBeenCalledWith(null));
    expect(must.commit).not.toHaveBeenCalled();
  });

  it("tells drafts while they are typed, but none that is out of range", async () => {
    const draft = vi.fn();
    const { box } = field({ onDraft: draft });
    type(box, "-12");
    expect(draft).not.toHaveBeenCalled();
    type(box, "1");
    type(box, "12");
    expect(draft.mock.calls.map(([v]) => v)).toEqual([1, 12]);
  });
});

const SCHEMA: ModelSchema = {
  required: ["strategy"],
  properties: {
    strategy: { const: "facing" },
    stepover_mm: { type: "number", title: "Stepover", unit: "mm", exclusiveMinimum: 0, default: 4 },
    top_mm: { anyOf: [{ type: "number" }, { type: "null" }], title: "Top", unit: "mm" },
    milling: { enum: ["climb", "conventional"], title: "Milling", default: "climb" },
    both: { type: "boolean", title: "Both ways", default: false },
    words: { type: "string", title: "Words", default: "" },
    unused: { type: "number", title: "Unused", idle: true },
    tolerance_mm: { type: "number", title: "Tolerance", unit: "mm", default: 0.01 },
  },
};

describe("a form made from a schema", () => {
  const form = (rest: Partial<Parameters<typeof SchemaForm>[0]> = {}) => {
    const change = vi.fn(async () => "");
    show(<SchemaForm schema={SCHEMA} value={{ stepover_mm: 5 }} onChange={change} {...rest} />);
    return change;
  };

  it("has a field for each that a person can set, with what stands there or the default", () => {
    form();
    expect(screen.getByLabelText<HTMLInputElement>("Stepover, mm").value).toBe("5");
    expect(screen.getByLabelText<HTMLInputElement>("Tolerance, mm").value).toBe("0.01");
    expect(screen.queryByLabelText("Unused")).toBeNull();
    expect(screen.queryByLabelText("strategy")).toBeNull();
  });

  it("says what was changed, and from what", async () => {
    const change = form();
    const box = screen.getByLabelText("Stepover, mm");
    type(box, "6{Enter}");
    await waitFor(() => expect(change).toHaveBeenCalledWith("stepover_mm", 6, 5));
    fireEvent.click(screen.getByLabelText("Both ways"));
    expect(change).toHaveBeenLastCalledWith("both", true, false);
  });

  it("takes the ends of the range from the schema", async () => {
    form();
    const box = screen.getByLabelText("Stepover, mm");
    type(box, "0");
    expect(screen.getByText("Must be above 0 mm.")).toBeTruthy();
  });

  it("folds away what the schema's owner names, and leaves out what is skipped", () => {
    form({ folded: ["tolerance_mm"], skip: ["words"] });
    expect(screen.getByLabelText("Tolerance, mm").closest("details")).not.toBeNull();
    expect(screen.getByLabelText("Stepover, mm").closest("details")).toBeNull();
    expect(screen.queryByLabelText("Words")).toBeNull();
  });

  it("shows that an empty number is worked out", () => {
    form();
    expect(screen.getByLabelText<HTMLInputElement>("Top, mm").placeholder).toBe("automatic");
  });

  it("lets a field be drawn otherwise", () => {
    form({ special: { top_mm: <p key="t">picked</p> } });
    expect(screen.getByText("picked")).toBeTruthy();
    expect(screen.queryByLabelText("Top, mm")).toBeNull();
  });
});

describe("objects made from a schema", () => {
  it("hold their kind and what they cannot do without, from what is at hand", () => {
    const schema: ModelSchema = { required: ["kind", "diameter_mm", "pitch_mm"], properties: {} };
    expect(freshOf("tap", schema, { diameter_mm: 6, flutes: 3 })).toEqual({ kind: "tap", diameter_mm: 6 });
    expect(freshOf("tap", { properties: {} }, { diameter_mm: 6 }, "strategy")).toEqual({ strategy: "tap" });
  });
  it("can be of some fields only", () => {
    expect(Object.keys(onlyFields(SCHEMA, ["words", "both"])!.properties)).toEqual(["words", "both"]);
    expect(onlyFields(undefined, ["words"])).toBeUndefined();
  });
});

describe("a line of text", () => {
  it("is kept when it is left, once, and only if it is another", async () => {
    const commit = vi.fn(async () => "");
    show(<TextField label="Name" value="Rough" onCommit={commit} />);
    const box = screen.getByLabelText("Name");
    fireEvent.blur(box);
    expect(commit).not.toHaveBeenCalled();
    type(box, "Rough it{Enter}");
    await waitFor(() => expect(commit).toHaveBeenCalledTimes(1));
    expect(commit).toHaveBeenCalledWith("Rough it");
  });
  it("says why it was refused", async () => {
    show(<TextField label="Name" value="Rough" onCommit={async () => "Another row has that name."} />);
    type(screen.getByLabelText("Name"), "Rougher{Enter}");
    await waitFor(() => expect(screen.getByText("Another row has that name.")).toBeTruthy());
  });
});
