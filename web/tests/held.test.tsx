// @vitest-environment jsdom
import { inJob, job, view } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { HeldLoad } from "../src/stages/route/HeldLoad";
import { arcOf, loadOf, stepoverOf, widthOf } from "../src/stages/route/held";

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
  it("is given as a load, or taken from the job's, by what that proposes", async () => {
    const change = vi.fn();
    const known = { load: 0.5, width: 3 };
    expect(loadOf(widthOf(0.2, known), known)).toBeCloseTo(0.2, 9);
    inJob(
      <HeldLoad
        label="Engagement"
        range={{ min: 10, max: 150 }}
        engagement={60}
        diameter={12}
        known={known}
        onChange={change}
      />,
      job({}, {}),
      view({ stage: "route" }),
    );
    const field = screen.getByLabelText("Same as load, %");
    expect((field as HTMLInputElement).value).toBe("50"); // 60 degrees are 3 mm
    fireEvent.change(field, { target: { value: "0" } });
    fireEvent.blur(field);
    await waitFor(() => expect(change).toHaveBeenCalledWith(41.4)); // 1.5 mm: arccos(1 - 1.5 / 6)
    fireEvent.click(screen.getByText("As the job: 50 %"));
    expect(change).toHaveBeenLastCalledWith(60);
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
