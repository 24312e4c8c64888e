// @vitest-environment jsdom
import { inJob, job, pageOf, show, view } from "./screen";
import { act, cleanup, fireEvent, renderHook, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { getMoment, setMoment } from "../src/job/moment";
import { Panel } from "../src/job/Panel";
import { pick, picks } from "../src/job/picking";
import { TopBar } from "../src/job/TopBar";
import { useAddress } from "../src/job/useAddress";
import { JobContext } from "../src/job/useJob";

beforeEach(() => history.replaceState(null, "", "/"));
afterEach(cleanup);

describe("a panel that fails", () => {
  it("says so in its place, leaves the others alive, and can be shown again", () => {
    const quiet = vi.spyOn(console, "error").mockImplementation(() => undefined);
    let broken = true;
    const Part = () => {
      if (broken) throw new Error("no such row");
      return <p>all well</p>;
    };
    show(
      <>
        <Panel name="bench">
          <Part />
        </Panel>
        <Panel name="sheet">
          <p>the other</p>
        </Panel>
      </>,
    );
    expect(screen.getByRole("alert").textContent).toContain("The bench failed: no such row");
    expect(screen.getByText("the other")).toBeTruthy();
    broken = false;
    fireEvent.click(screen.getByText("Show it again"));
    expect(screen.getByText("all well")).toBeTruthy();
    quiet.mockRestore();
  });
});

describe("the bar at the top", () => {
  const bar = (status: unknown, rest = {}) => {
    const j = job({ name: "Lantern", part: { file: "l.step" } } as never, { status: status as never, ...rest });
    inJob(<TopBar />, j, view());
    return j;
  };
  const task = (id: string, state: string, fraction: number) => ({ id, state, fraction, words: `20: ${state}` });

  it("shows what runs before what waits, and cancels just that", () => {
    const j = bar({ tasks: [task("w", "waiting", 0), task("r", "running", 0.304)], can_undo: true, can_redo: false });
    expect(screen.getByText("20: running")).toBeTruthy();
    expect(screen.getByText("30 %")).toBeTruthy();
    fireEvent.click(screen.getByText("Cancel"));
    expect(j.cancel).toHaveBeenCalledWith("r");
  });
  it("undoes and redoes only what there is", () => {
    const j = bar({ tasks: [], can_undo: true, can_redo: false });
    expect(screen.queryByText("Cancel")).toBeNull();
    fireEvent.click(screen.getByText("Undo"));
    fireEvent.click(screen.getByText("Redo"));
    expect(j.undo).toHaveBeenCalledTimes(1);
    expect(j.redo).not.toHaveBeenCalled();
    expect(screen.getByText("saved")).toBeTruthy();
    cleanup();
    bar(undefined, { saving: true });
    expect(screen.getByText("saving …")).toBeTruthy();
    expect(screen.getByText("Undo").closest("button")!.disabled).toBe(true);
  });
});

describe("where one is, in the address", () => {
  const open = (address: string, stage = "proof") => {
    history.replaceState(null, "", address);
    const Page = pageOf();
    return renderHook(() => useAddress(stage, "first", 3), {
      wrapper: ({ children }) => (
        <Page>
          <JobContext value={job()}>{children}</JobContext>
        </Page>
      ),
    }).result;
  };

  it("is read back as it stands there", () => {
    const here = open("/jobs/j/proof?setup=b&tool=7&rows=10,20&deviation=1&sketch=s&motion=41");
    expect(here.current).toMatchObject({ setup: "b", tool: 7, rows: [10, 20], deviation: true, sketch: "s" });
    expect(getMoment()).toBe(41);
    const plain = open("/jobs/j/proof");
    expect(plain.current).toMatchObject({ setup: "first", tool: 3, rows: [], deviation: false, sketch: "" });
  });

  it("keeps what changes, and drops what is nothing", () => {
    const here = open("/jobs/j/route?rows=10&deviation=1", "route");
    act(() => here.current.set({ rows: [], setup: "b" }));
    expect(location.search).toBe("?deviation=1&setup=b");
    act(() => here.current.set({ deviation: false, tool: null, sketch: "" }));
    expect(location.search).toBe("?setup=b");
    act(() => here.current.set({ fixture: "clamp" }));
    expect(here.current.fixture).toBe("clamp");
    expect(location.search).toBe("?setup=b");
  });

  it("goes to another stage with a step that leads back, and changes within one without", () => {
    const here = open("/jobs/j/proof");
    const steps = history.length;
    act(() => here.current.set({ setup: "b" }));
    expect(history.length).toBe(steps);
    act(() => here.current.set({ stage: "release" }));
    expect(location.pathname + location.search).toBe("/jobs/j/release?setup=b");
    expect(history.length).toBe(steps + 1);
  });

  it("writes moments without drawing the screen anew, and two changes at once both stay", () => {
    const here = open("/jobs/j/proof");
    const drawn = here.current;
    act(() => here.current.set({ motion: 12 }));
    expect(location.search).toBe("?motion=12");
    expect(getMoment()).toBe(12);
    expect(here.current).toBe(drawn);
    act(() => {
      here.current.set({ motion: 13 });
      here.current.set({ rows: [20] });
    });
    expect(location.search).toBe("?motion=13&rows=20");
  });

  it("begins with nothing picked", () => {
    pick({ faces: [3] });
    setMoment(5);
    open("/jobs/j/proof");
    expect(picks.get().faces).toEqual([]);
    expect(getMoment()).toBe(0);
  });
});
