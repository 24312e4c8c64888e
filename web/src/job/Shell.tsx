import { Badge, Button, Group, Loader, Progress, Text, Tooltip, useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { Spotlight, openSpotlight, type SpotlightActionData } from "@mantine/spotlight";
import { lazy, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useLocation, useSearch } from "wouter";
import { api, take } from "../api/client";
import { withFile } from "../forms/PickFile";
import { setMoment } from "./moment";
import { Panel } from "./Panel";
import { useSchema } from "../forms/SchemaForm";
import { JobContext, useJob, useJobApi } from "./useJob";
import { ViewContext, type View } from "./view";

// Each stage, and the view with all of its drawing, is fetched when it is first seen.
const part = () => import("../stages/PartBench"),
  setups = () => import("../stages/SetupSheet"),
  tools = () => import("../stages/Tools");
const route = () => import("../stages/Route"),
  proof = () => import("../stages/Proof"),
  release = () => import("../stages/Release");
const PartBench = lazy(() => part().then((m) => ({ default: m.PartBench }))),
  PartSheet = lazy(() => import("../stages/PartSheet").then((m) => ({ default: m.PartSheet })));
const SetupBench = lazy(() => setups().then((m) => ({ default: m.SetupBench }))),
  SetupSheet = lazy(() => setups().then((m) => ({ default: m.SetupSheet })));
const ToolBench = lazy(() => tools().then((m) => ({ default: m.ToolBench }))),
  ToolSheet = lazy(() => tools().then((m) => ({ default: m.ToolSheet })));
const RouteBench = lazy(() => route().then((m) => ({ default: m.RouteBench }))),
  RouteSheet = lazy(() => route().then((m) => ({ default: m.RouteSheet })));
const ProofBench = lazy(() => proof().then((m) => ({ default: m.ProofBench }))),
  ProofSheet = lazy(() => proof().then((m) => ({ default: m.ProofSheet })));
const ReleaseBench = lazy(() => release().then((m) => ({ default: m.ReleaseBench }))),
  ReleaseSheet = lazy(() => release().then((m) => ({ default: m.ReleaseSheet })));
const Viewport = lazy(() => import("../viewport/Viewport").then((m) => ({ default: m.Viewport })));

const STAGES = ["part", "setups", "tools", "route", "proof", "release"] as const;
const TITLES: Record<string, string> = {
  part: "Part",
  setups: "Setups",
  tools: "Tools",
  route: "Route",
  proof: "Proof",
  release: "Release",
};

/** The whole screen of an open job. */
export function Shell({ id, stage }: { id: string; stage: string }) {
  const { job, error } = useJobApi(id);
  const schema = useSchema();
  const wrong = error ?? schema.error;
  if (wrong)
    return (
      <main style={{ padding: 40 }}>
        <p className="fault" role="alert">
          {wrong.message}
        </p>
        <Link href="/">All jobs</Link>
      </main>
    );
  if (!job || !schema.data)
    return (
      <main style={{ padding: 40 }}>
        <Loader />
      </main>
    );
  return (
    <JobContext value={job}>
      <Open stage={stage} />
    </JobContext>
  );
}

function useAddress(stage: string, firstSetup: string, firstTool: number | null): View {
  const [, go] = useLocation();
  const search = useSearch();
  const { id } = useJob();
  const [faces, setFaces] = useState<number[]>([]);
  const [edges, setEdges] = useState<number[]>([]);
  const [lit, setLit] = useState<number[]>([]);
  const [place, setPlace] = useState<View["place"]>(null);
  const [picking, setPicking] = useState<View["picking"]>("");
  const [reach, setReach] = useState<View["reach"]>("face");
  const [fixture, setFixture] = useState("");
  const q = new URLSearchParams(search);
  const latest = useRef(search);
  latest.current = search;
  const motion = Number(q.get("motion") ?? 0);
  useEffect(() => setMoment(motion), [motion]);
  const set = useCallback(
    (change: Parameters<View["set"]>[0]) => {
      if (change.faces) setFaces(change.faces);
      if (change.edges) setEdges(change.edges);
      if (change.lit) setLit(change.lit);
      if (change.place !== undefined) setPlace(change.place);
      if (change.reach) setReach(change.reach);
      if (change.fixture !== undefined) setFixture(change.fixture);
      if (change.picking !== undefined) setPicking(change.picking);
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
  return {
    stage,
    faces,
    edges,
    lit,
    place,
    picking,
    reach,
    fixture,
    set,
    sketch: q.get("sketch") ?? "",
    setup: q.get("setup") ?? firstSetup,
    tool: q.get("tool") ? Number(q.get("tool")) : firstTool,
    rows: (q.get("rows") ?? "").split(",").filter(Boolean).map(Number),
    deviation: q.get("deviation") === "1",
  };
}

function Open({ stage }: { stage: string }) {
  const job = useJob();
  const { doc, id, status } = job;
  const view = useAddress(stage, doc.setups[0]?.id ?? "", doc.tools[0]?.number ?? null);
  const { toggleColorScheme } = useMantineColorScheme();
  const [, go] = useLocation();
  useEffect(() => {
    document.title = `${doc.name} · ${TITLES[stage]} · Fenrik`;
  }, [doc.name, stage]);
  useHotkeys(
    [
      ["mod+z", job.undo],
      ["mod+shift+z", job.redo],
      ["mod+y", job.redo],
      ["mod+k", () => openSpotlight()],
    ],
    ["INPUT", "TEXTAREA"],
  );

  const bring = useCallback(
    async (file: File) => {
      job.setNote(`Reading ${file.name} …`, true);
      try {
        const answer = await take(
          api.PUT("/api/jobs/{job_id}/part", { params: { path: { job_id: id } }, ...withFile(file) }),
        );
        const changed = Object.entries(answer.changed ?? {})
          .filter(([k]) => k !== "same")
          .map(([k, n]) => `${n} ${k}`)
          .join(", ");
        const lost = answer.lost ?? [];
        if (lost.length)
          job.setNote(
            `New version of the model: ${changed}. Pick again, since the face or edge is gone: ${lost.join(", ")}.`,
          );
        else
          job.setNote(
            changed
              ? `New version of the model: ${changed} faces. Everything that was picked has been found again.`
              : null,
            true,
          );
        job.reload();
        view.set({ faces: [], edges: [], lit: [], stage: "part" });
      } catch (e) {
        job.setNote((e as Error).message);
      }
    },
    [id, job, view],
  );

  const actions = useMemo<SpotlightActionData[]>(
    () => [
      ...STAGES.map((s) => ({ id: s, label: `Go to ${TITLES[s]}`, onClick: () => view.set({ stage: s }) })),
      ...doc.setups.map((s) => ({
        id: `compute-${s.id}`,
        label: `Compute and prove ${s.name || s.id}`,
        onClick: () => job.compute(s.id),
      })),
      { id: "undo", label: "Undo", onClick: job.undo },
      { id: "redo", label: "Redo", onClick: job.redo },
      { id: "export", label: "Export this job", onClick: () => window.open(`/api/jobs/${id}/export`) },
      { id: "dark", label: "Switch between light and dark", onClick: toggleColorScheme },
      { id: "jobs", label: "All jobs", onClick: () => go("/") },
    ],
    [doc.setups, go, id, job, toggleColorScheme, view],
  );

  const task = status?.tasks.find((t) => t.state === "running") ?? status?.tasks.find((t) => t.state === "waiting");
  const sheets: Record<string, React.ReactNode> = {
    part: <PartSheet onFile={bring} />,
    setups: <SetupSheet />,
    tools: <ToolSheet />,
    route: <RouteSheet />,
    proof: <ProofSheet />,
    release: <ReleaseSheet />,
  };
  const benches: Record<string, React.ReactNode> = {
    part: doc.part ? <PartBench /> : null,
    setups: doc.setups.length ? <SetupBench /> : null,
    tools: <ToolBench />,
    route: <RouteBench />,
    proof: <ProofBench />,
    release: <ReleaseBench />,
  };
  return (
    <ViewContext value={view}>
      <Spotlight
        actions={actions}
        nothingFound="Nothing by that name"
        searchProps={{ placeholder: "Find a command" }}
        shortcut={null}
      />
      <div className="shell">
        <header className="top">
          <Link href="/" style={{ fontWeight: 700, color: "#1f7a6d", textDecoration: "none" }}>
            Fenrik
          </Link>
          <Text fw={600} truncate maw={260}>
            {doc.name}
          </Text>
          {doc.part && (
            <Text className="faint" truncate maw={220}>
              {doc.part.file}
            </Text>
          )}
          <Text className="faint" role="status">
            {job.saving ? "saving …" : "saved"}
          </Text>
          <span style={{ flex: 1 }} />
          {task && (
            <Group gap={8} wrap="nowrap" role="status">
              <Text truncate maw={240}>
                {task.words}
              </Text>
              <Progress value={100 * task.fraction} w={110} aria-label="Progress of the computation" />
              <Text className="faint" w={38} ta="right">
                {Math.round(100 * task.fraction)} %
              </Text>
              <Button size="compact-xs" variant="default" onClick={() => job.cancel(task.id)}>
                Cancel
              </Button>
            </Group>
          )}
          <Tooltip label="Undo (Ctrl+Z)">
            <Button size="compact-sm" variant="default" disabled={!status?.can_undo} onClick={job.undo}>
              Undo
            </Button>
          </Tooltip>
          <Tooltip label="Redo (Ctrl+Shift+Z)">
            <Button size="compact-sm" variant="default" disabled={!status?.can_redo} onClick={job.redo}>
              Redo
            </Button>
          </Tooltip>
          <Button size="compact-sm" variant="default" component="a" href={`/api/jobs/${id}/export`}>
            Export
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => openSpotlight()}>
            Commands{" "}
            <span className="faint" style={{ marginLeft: 6 }}>
              Ctrl+K
            </span>
          </Button>
        </header>
        {job.note && (
          <div className={`note${job.note.ok ? " ok" : ""}`} role="alert">
            <span style={{ flex: 1 }}>{job.note.text}</span>
            <Button size="compact-xs" variant="default" onClick={() => job.setNote(null)}>
              Understood
            </Button>
          </div>
        )}
        <nav className="rail" aria-label="Stages">
          {STAGES.map((s) => {
            const lacks = status?.missing.filter((m) => m.stage === s) ?? [];
            return (
              <Link
                key={s}
                href={`/jobs/${id}/${s}${window.location.search}`}
                aria-current={s === stage ? "page" : undefined}
                title={lacks.map((m) => m.message).join(" ")}
              >
                {TITLES[s]}
                {lacks.length > 0 && (
                  <span className="count" aria-label={`${lacks.length} missing`}>
                    {lacks.length}
                  </span>
                )}
              </Link>
            );
          })}
        </nav>
        <Panel name="view" key="view">
          <Viewport onFile={bring} />
        </Panel>
        <aside className="sheet" aria-label={`${TITLES[stage]} sheet`}>
          {status?.missing
            .filter((m) => m.stage === stage)
            .map((m) => (
              <Badge key={m.message} variant="light" color="yellow.9" mb={8} mr={4} tt="none" radius="sm">
                {m.message}
              </Badge>
            ))}
          <Panel name={`${TITLES[stage]} sheet`} key={stage}>
            {sheets[stage]}
          </Panel>
        </aside>
        {benches[stage] ? (
          <Bench>
            <Panel name={`${TITLES[stage]} bench`} key={stage}>
              {benches[stage]}
            </Panel>
          </Bench>
        ) : (
          <div style={{ gridArea: "bench" }} />
        )}
      </div>
    </ViewContext>
  );
}

/** The panel along the bottom, as tall as wished; the height is remembered. */
function Bench({ children }: { children: React.ReactNode }) {
  const [height, setHeight] = useState(() => Number(localStorage.getItem("bench") ?? 250));
  const keep = (h: number) => {
    const next = Math.round(Math.max(90, Math.min(h, window.innerHeight - 220)));
    setHeight(next);
    localStorage.setItem("bench", String(next));
  };
  return (
    <section className="bench" style={{ height }} aria-label="Bench">
      <div
        className="grip"
        role="separator"
        aria-orientation="horizontal"
        aria-label="Height of the bench"
        aria-valuenow={height}
        tabIndex={0}
        onKeyDown={(e) => {
          if (e.key === "ArrowUp") keep(height + 24);
          if (e.key === "ArrowDown") keep(height - 24);
        }}
        onPointerDown={(e) => {
          const from = e.clientY,
            was = height;
          const move = (m: PointerEvent) => keep(was + from - m.clientY);
          const stop = () => {
            window.removeEventListener("pointermove", move);
            window.removeEventListener("pointerup", stop);
          };
          window.addEventListener("pointermove", move);
          window.addEventListener("pointerup", stop);
        }}
      />
      {children}
    </section>
  );
}
