// @vitest-environment jsdom
import { inJob, job, server, view } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { TopBar } from "../src/job/TopBar";

afterEach(cleanup);

const setup = (id: string, rest = {}) => ({ id, proof: "ready", program: "ready", faults: 0, problem: "", ...rest });
const row = (number: number, setup: string, enabled = true) => ({ number, setup, enabled });

function bar(doc: object, status: object, v = view()) {
  const j = job({ part: { file: "p.step" }, ...doc } as never, {
    status: { tasks: [], setups: [], operations: [], missing: [], ...status } as never,
    run: vi.fn(async (w) => (await w(), "")),
  });
  inJob(<TopBar />, j, v);
  return { j, v };
}
const next = () => screen.queryByText(/^Next: /)?.textContent ?? null;

describe("the next step", () => {
  it("is none without a model, and while something is computed", () => {
    bar({ part: null }, {});
    expect(next()).toBe(null);
    cleanup();
    const busy = { id: "t", state: "running", fraction: 0.1, words: "x" };
    bar(
      { setups: [{ id: "a" }], operations: [row(10, "a")] },
      { setups: [setup("a", { proof: "out of date" })], tasks: [busy] },
    );
    expect(next()).toBe(null);
  });
  it("holds the part with its best side up and says why", async () => {
    const asked = server({
      "GET /api/jobs/j/first-setup": () => ({
        setup: { id: "s1" },
        seen: 0.9,
        words: "+Z is up: it sees 90 % of the surface.",
      }),
      "PATCH /api/jobs/j": () => ({ document: {} }),
    });
    const { j, v } = bar({ setups: [] }, {});
    fireEvent.click(screen.getByText("Next: hold the part"));
    await waitFor(() => expect(j.setNote).toHaveBeenCalledWith(expect.stringContaining("+Z is up"), true));
    expect(v.set).toHaveBeenCalledWith({ stage: "setups", setup: "s1" });
    expect(asked.find((a) => a.what === "PATCH /api/jobs/j")!.body).toMatchObject({
      changes: [{ op: "add", path: "setups", value: { id: "s1" } }],
    });
  });
  it("proposes a route for all sides where no row is switched on", () => {
    const { v } = bar({ setups: [{ id: "a" }], operations: [row(10, "a", false)] }, {});
    fireEvent.click(screen.getByText("Next: a route"));
    expect(v.set).toHaveBeenCalledWith({ stage: "route", setup: "a", rows: [], proposing: "all" });
    cleanup();
    bar({ setups: [{ id: "a" }] }, {}, view({ stage: "route", proposing: "all" }));
    expect(next()).toBe(null);
  });
  it("computes every setup whose proof is out of date, also those that the status on the screen does not know", async () => {
    const doc = {
      setups: [{ id: "a" }, { id: "b" }, { id: "c" }, { id: "d" }],
      operations: [row(10, "a"), row(20, "b"), row(30, "d")],
    };
    const before = [setup("a"), setup("b", { proof: "out of date" }), setup("c", { proof: "out of date" })];
    server({ "GET /api/jobs/j/status": () => ({ setups: [...before, setup("d", { proof: "out of date" })] }) });
    const { j } = bar(doc, { setups: before });
    fireEvent.click(screen.getByText("Next: compute and prove"));
    await waitFor(() => expect(vi.mocked(j.compute).mock.calls).toEqual([["b"], ["d"]]));
  });
  it("is to compute as long as the status does not know a setup", () => {
    bar({ setups: [{ id: "a" }], operations: [row(10, "a")] }, { setups: [] });
    expect(next()).toBe("Next: compute and prove");
  });
  it("leads to the setup with faults, and at the end to the program", () => {
    const doc = { setups: [{ id: "a" }, { id: "b" }], operations: [row(10, "a"), row(20, "b")] };
    const { v } = bar(doc, { setups: [setup("a"), setup("b", { faults: 2 })] });
    fireEvent.click(screen.getByText("Next: look at the findings"));
    expect(v.set).toHaveBeenCalledWith({ stage: "proof", setup: "b" });
    cleanup();
    bar(doc, { setups: [setup("a"), setup("b")] });
    expect(next()).toBe("Next: the program");
  });
});
