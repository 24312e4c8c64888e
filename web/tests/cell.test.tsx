// @vitest-environment jsdom
import { inJob, job, server, view } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { RangeEnd } from "../src/stages/cell/RangeEnd";
import { Stretch } from "../src/stages/cell/Stretch";
import { times } from "../src/stages/cell/words";
import { getMoving, setMoving } from "../src/job/moving";
import type { MachineJoint } from "../src/job/machine";
import type { Operation } from "../src/job/document";

afterEach(cleanup);

const joint = { name: "J2", unit: "deg", low: -90, high: 70 } as MachineJoint;
const rowWith = (ranges: { joint: string; low: number; high: number }[]) =>
  ({ number: 10, arm: { facing: 0.3, ranges } }) as unknown as Operation;
const typed = (label: string, text: string) => {
  const field = screen.getByLabelText(label);
  fireEvent.change(field, { target: { value: text } });
  fireEvent.blur(field);
};

describe("the range of a joint", () => {
  const ends = async (row: Operation, text: string) => {
    const edit = vi.fn(async () => "");
    inJob(<RangeEnd row={row} joint={joint} end="high" />, job({}, { edit }), view({ stage: "cell" }));
    typed("Highest of J2", text);
    await waitFor(() => expect(edit).toHaveBeenCalled());
    return (edit.mock.calls[0] as unknown as [{ value: unknown }[]])[0][0].value;
  };
  it("is narrowed at one end, the other stays the cell's own", async () => {
    expect(await ends(rowWith([]), "20")).toEqual({ facing: 0.3, ranges: [{ joint: "J2", low: -90, high: 20 }] });
  });
  it("keeps the other end's narrower value and other joints'", async () => {
    const other = { joint: "J1", low: -10, high: 10 };
    const value = await ends(rowWith([other, { joint: "J2", low: -30, high: 20 }]), "40");
    expect(value).toEqual({ facing: 0.3, ranges: [other, { joint: "J2", low: -30, high: 40 }] });
  });
  it("is the cell's own again where nothing is left in the cell", async () => {
    expect(await ends(rowWith([{ joint: "J2", low: -90, high: 20 }]), "")).toEqual({ facing: 0.3, ranges: [] });
  });
});

describe("a stretch", () => {
  const found = {
    rows: 30,
    lost: 2,
    why: "out of reach",
    leaps: 1,
    singular: 0.21,
    clearance_mm: 12.4,
    joints: [1, 2],
  };
  it("is solved from row to row, as people count them, and tells what came of it", async () => {
    const asked = vi.fn((_: unknown, url: URL) => (url ? found : undefined));
    server({ "GET /api/jobs/j/operations/10/stretch": asked });
    setMoving({ row: 6, joints: null });
    inJob(<Stretch row={rowWith([])} ready />, job(), view({ stage: "cell" }));
    fireEvent.click(screen.getByRole("button", { name: "From the row looked at" }));
    expect(screen.getByLabelText("From row")).toHaveProperty("value", "7");
    fireEvent.click(screen.getByRole("button", { name: "Solve this stretch" }));
    await waitFor(() => expect(screen.getByText("✕ 2 of 30: out of reach")).toBeTruthy());
    expect(asked.mock.calls[0][1].search).toBe("?first=6&last=56");
    fireEvent.click(screen.getByRole("button", { name: "Stand where it begins" }));
    expect(getMoving().joints).toEqual([1, 2]);
  });
  it("waits for the row's path", () => {
    inJob(<Stretch row={rowWith([])} ready={false} />, job(), view({ stage: "cell" }));
    expect(screen.getByRole("button", { name: "Solve this stretch" })).toHaveProperty("disabled", true);
  });
  it("says how often the arm comes by another way", () => {
    expect([0, 1, 3].map(times)).toEqual(["never", "△ once", "△ 3 times"]);
  });
});
