/** Where in the job one is, kept in the address. */
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useLocation, useSearch } from "wouter";
import { setMoment } from "./moment";
import { pickNothing } from "./picking";
import { useJob } from "./useJob";
import { LOAD_NAMES, type View } from "./view";

export function useAddress(stage: string, firstSetup: string, firstTool: number | null): View {
  const [, go] = useLocation();
  const search = useSearch();
  const { id } = useJob();
  const [fixture, setFixture] = useState("");
  const [proposing, setProposing] = useState<View["proposing"]>("");
  const latest = useRef(search);
  latest.current = search;
  const motion = Number(new URLSearchParams(search).get("motion") ?? 0);
  useEffect(() => setMoment(motion), [motion]);
  useEffect(pickNothing, [id]);
  const set = useCallback(
    (change: Parameters<View["set"]>[0]) => {
      if (change.fixture !== undefined) setFixture(change.fixture);
      if (change.proposing !== undefined) setProposing(change.proposing);
      const next = new URLSearchParams(latest.current);
      if (change.setup !== undefined) next.set("setup", change.setup);
      if (change.tool !== undefined) change.tool === null ? next.delete("tool") : next.set("tool", String(change.tool));
      if (change.rows !== undefined) change.rows.length ? next.set("rows", change.rows.join(",")) : next.delete("rows");
      if (change.sketch !== undefined) change.sketch ? next.set("sketch", change.sketch) : next.delete("sketch");
      if (change.motion !== undefined) {
        setMoment(change.motion);
        next.set("motion", String(change.motion));
      }
      if (change.deviation !== undefined) change.deviation ? next.set("deviation", "1") : next.delete("deviation");
      if (change.load !== undefined) change.load ? next.set("load", change.load) : next.delete("load");
      if (change.stock !== undefined) change.stock ? next.set("stock", change.stock) : next.delete("stock");
      if (change.thick !== undefined) change.thick ? next.set("thick", "1") : next.delete("thick");
      if (change.leftOver !== undefined) change.leftOver ? next.set("left", "1") : next.delete("left");
      const target = change.stage ?? stage,
        text = next.toString(),
        address = `/jobs/${id}/${target}${text ? `?${text}` : ""}`;
      const same = (part: URLSearchParams) => [...part].filter(([name]) => name !== "motion").join();
      const onlyMoment = !change.stage && same(next) === same(new URLSearchParams(latest.current));
      if (text === latest.current && !change.stage) return;
      latest.current = text;
      // Past the router, which would draw the whole screen anew with each moment of the proof.
      if (onlyMoment) History.prototype.replaceState.call(history, history.state, "", address);
      else go(address, { replace: !change.stage });
    },
    [go, id, stage],
  );
  return useMemo(() => {
    const q = new URLSearchParams(search);
    return {
      stage,
      fixture,
      proposing,
      set,
      sketch: q.get("sketch") ?? "",
      setup: q.get("setup") ?? firstSetup,
      tool: q.get("tool") ? Number(q.get("tool")) : firstTool,
      rows: (q.get("rows") ?? "").split(",").filter(Boolean).map(Number),
      deviation: q.get("deviation") === "1",
      leftOver: q.get("left") === "1",
      load: LOAD_NAMES.find((name) => name === q.get("load")) ?? "",
      stock: (["before", "after"] as const).find((when) => when === q.get("stock")) ?? "",
      thick: q.get("thick") === "1",
    };
  }, [stage, fixture, proposing, set, search, firstSetup, firstTool]);
}
