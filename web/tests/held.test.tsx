// @vitest-environment jsdom
import { inJob, job, view } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { HeldLoad } from "../src/stages/route/HeldLoad";
import { arcOf, stepoverOf } from "../src/stages/route/held";

afterEach(cleanup);

describe("a held load", () => {
  it("is the half circle at the whole radius, and there and back the same", () => {
    expect(stepoverOf(90, 12)).toBeCloseTo(6, 9);
    expect(stepoverOf(60, 12)).toBeCloseTo(3, 9);
    for (const deg of [10, 37, 90, 150]) expect(arcOf(stepoverOf(deg, 7), 7)).toBeCloseTo(deg, 6);
  });
  it("is given as a stepover, and kept as the arc of that", async () => {
    const change = vi.fn();
    inJob(
      <HeldLoad label="Engagement" range={{ min: 10, max: 150 }} engagement={45} diameter={12} onChange={change} />,
      job({}, {}),
      view({ stage: "route" }),
    );
    const field = screen.getByLabelText("Same as stepover, mm");
    expect((field as HTMLInputElement).value).toBe("1.757");
    expect(screen.getByText(/15 % of the diameter/)).toBeTruthy();
    fireEvent.change(field, { target: { value: "3" } });
    fireEvent.blur(field);
    await waitFor(() => expect(change).toHaveBeenCalledWith(60));
  });
  it("refuses a stepover that no arc allowed stands for", () => {
    inJob(
      <HeldLoad label="Engagement" range={{ min: 10, max: 150 }} engagement={45} diameter={12} onChange={vi.fn()} />,
      job({}, {}),
      view({ stage: "route" }),
    );
    fireEvent.change(screen.getByLabelText("Same as stepover, mm"), { target: { value: "12" } });
    expect(screen.getByText(/Must be at most/)).toBeTruthy();
  });
});
