import { ActionIcon, Button, Group, Loader, Select, Tooltip } from "@mantine/core";
import { Canvas } from "@react-three/fiber";
import { useCallback, useMemo, useState } from "react";
import { Box3, Quaternion, Vector3 } from "three";
import {
  useColumns,
  useFeatures,
  useGeometry,
  usePart,
  usePath,
  usePickTables,
  useProof,
  useProofKey,
  useScene,
} from "../job/queries";
import type { Vec } from "../job/document";
import { useJob } from "../job/useJob";
import { useMoment } from "../job/moment";
import { useView, type Purpose, type Reach } from "../job/view";
import { KINDS } from "../theme";
import { Camera } from "./Camera";
import { DeviationScale } from "./DeviationScale";
import { Copies, FirstStock, FixtureBody, MeasureMarks, SketchLines, Table } from "./Extras";
import { HeightMarks } from "./HeightMarks";
import { PartMesh } from "./PartMesh";
import { useDots } from "./motion";
import { PathLines } from "./PathLines";
import { ScreenBox } from "./ScreenBox";
import { SetupMarks, toPart, turnOf } from "./SetupMarks";
import { StockBricks } from "./StockBricks";
import { edgesOfFaces, edgeStarts, featureOf, taken, type Hit } from "./taking";
import { ToolBody } from "./ToolBody";

const REACHES: { value: Reach; label: string }[] = [
  { value: "face", label: "face" },
  { value: "edge", label: "edge" },
  { value: "boundary", label: "boundary of a face" },
  { value: "chain", label: "tangent chain" },
  { value: "smooth", label: "smooth faces" },
  { value: "feature", label: "hole, pocket, feature" },
  { value: "radius", label: "all of this radius" },
  { value: "level", label: "all at this level" },
  { value: "colour", label: "all of this colour" },
  { value: "surface", label: "all of this surface" },
];
const PROMPTS: Record<Exclude<Purpose, "">, string> = {
  up: "Click a flat or round face.",
  "up edge": "Click a straight or round edge.",
  "up points": "Click three places, counter-clockwise seen from above.",
  "up hole": "Click inside a hole.",
  "x along": "Click a straight edge.",
  vertex: "Click a vertex.",
  "hole centre": "Click a hole centre.",
  boundary: "Click a face (Shift for more).",
  measure: "Click one or two faces, edges or places.",
  seat: "Click a face of the fixture, then the face it shall lie on.",
  "sketch edges": "Click edges (Shift for more).",
};

/** The middle of the screen: part, stock, frames, paths, tool, whatever the stage needs. */
export function Viewport({ onFile }: { onFile: (file: File) => void }) {
  const { doc } = useJob();
  const view = useView();
  const geometry = useGeometry();
  const part = usePart();
  const tables = usePickTables();
  const features = useFeatures();
  const scene = useScene(view.setup);
  const columns = useColumns(view.setup);
  const proof = useProof(view.setup);
  const [look, setLook] = useState({ name: "iso", count: 0 });
  const [dropping, setDropping] = useState(false);
  const [busy, setBusy] = useState(false);
  const [boxing, setBoxing] = useState(false);
  const stage = view.stage;
  const proving = (stage === "proof" || stage === "release") && !!columns.data;
  const box = useMemo(() => {
    if (!geometry.data) return null;
    const b = new Box3(),
      p = new Vector3();
    const v = geometry.data.vertices as Float32Array;
    for (let i = 0; i < v.length; i += 3) b.expandByPoint(p.set(v[i], v[i + 1], v[i + 2]));
    return b;
  }, [geometry.data]);
  const wide = useMemo(() => {
    const s = scene.data;
    if (!box || !s || stage === "part" || stage === "tools") return box;
    const b = box.clone();
    for (const c of s.copies)
      b.union(
        new Box3().setFromPoints(
          [box.min, box.max].map(
            (p) =>
              new Vector3(...(c.turn.map((row, i) => row[0] * p.x + row[1] * p.y + row[2] * p.z + c.shift[i]) as Vec)),
          ),
        ),
      );
    if (stage !== "route")
      for (const f of s.fixtures)
        for (const corner of [f.low, f.high])
          b.expandByPoint(
            new Vector3(...(s.rotation.map((row) => row.reduce((sum, v, c) => sum + v * corner[c], 0)) as Vec)),
          );
    return b;
  }, [box, scene.data, stage]);
  const marks =
    (view.picking === "vertex" || view.picking === "hole centre") && part.data
      ? part.data.zero_points[view.picking]
      : [];

  const lookup = useMemo(
    () =>
      geometry.data && tables.data ? { starts: edgeStarts(geometry.data), byFace: edgesOfFaces(tables.data) } : null,
    [geometry.data, tables.data],
  );
  const reach: Reach =
    view.picking === "up edge" || view.picking === "x along" || view.picking === "sketch edges"
      ? "edge"
      : view.picking === "up hole"
        ? "feature"
        : view.picking === "up" || view.picking === "seat"
          ? "face"
          : view.reach;
  const takes = useCallback(
    (hit: Hit, extend: boolean) =>
      geometry.data && lookup
        ? taken(hit, reach, extend, geometry.data, tables.data, lookup.starts, lookup.byFace, features.data)
        : { faces: [hit.face], edges: [] },
    [geometry.data, lookup, reach, tables.data, features.data],
  );
  const pick = useCallback(
    (hit: Hit, add: boolean, extend: boolean) => {
      const t = takes(hit, extend);
      if (view.picking === "seat" || view.picking === "up points")
        return document.dispatchEvent(new CustomEvent("fenrik-hit", { detail: { ...hit, on: "part" } }));
      const merge = (had: number[], more: number[]) => {
        if (!add) return more;
        return more.every((f) => had.includes(f))
          ? had.filter((f) => !more.includes(f))
          : [...new Set([...had, ...more])];
      };
      const again =
        !add &&
        view.faces.length === t.faces.length &&
        view.edges.length === t.edges.length &&
        t.faces.every((f) => view.faces.includes(f)) &&
        t.edges.every((e) => view.edges.includes(e));
      view.set(
        again && !view.picking
          ? { faces: [], edges: [], place: null }
          : { faces: merge(view.faces, t.faces), edges: merge(view.edges, t.edges), place: hit.point },
      );
    },
    [takes, view],
  );
  const picked = useMemo(() => ({ faces: view.faces, edges: view.edges }), [view.faces, view.edges]);
  const roles = useMemo(
    () => (part.data ? (face: number) => part.data!.roles[part.data!.faces[face]?.body ?? 0] ?? "part" : undefined),
    [part.data],
  );
  const hidden = useMemo(
    () => part.data?.roles.map((r, k) => (r === "left out" ? k : -1)).filter((k) => k >= 0) ?? [],
    [part.data],
  );
  const shown = useMemo(
    () =>
      geometry.data && part.data && hidden.length
        ? withoutBodies(
            geometry.data,
            part.data.faces.map((f) => f.body),
            hidden,
          )
        : geometry.data,
    [geometry.data, part.data, hidden],
  );
  const turn = useMemo(() => {
    const r = stage === "part" ? null : scene.data?.rotation;
    return r ? turnOf(r) : new Quaternion();
  }, [stage, scene.data]);
  const hole = view.picking === "up hole" && view.faces.length ? featureOf(features.data, view.faces[0]) : null;
  const setup = doc.setups.find((s) => s.id === view.setup);
  const sketches =
    stage === "part"
      ? doc.sketches.filter((s) => s.id === view.sketch)
      : stage === "route" || stage === "setups"
        ? doc.sketches.filter((s) => s.setup === view.setup)
        : [];
  const machine = doc.machines.find((m) => m.name === setup?.machine) as { table_mm?: [number, number] } | undefined;

  return (
    <section
      className={`view${dropping ? " dropping" : ""}`}
      aria-label="Viewport"
      data-testid="viewport"
      data-hole={hole?.name}
      onDragOver={(e) => {
        e.preventDefault();
        setDropping(true);
      }}
      onDragLeave={() => setDropping(false)}
      onDrop={(e) => {
        e.preventDefault();
        setDropping(false);
        const f = e.dataTransfer.files[0];
        if (f) onFile(f);
      }}
    >
      <Canvas
        orthographic
        frameloop="demand"
        dpr={useDots()}
        gl={{ antialias: false, preserveDrawingBuffer: true }}
        onCreated={({ raycaster }) => {
          (raycaster as never as { firstHitOnly: boolean }).firstHitOnly = true;
        }}
      >
        <ambientLight intensity={1.1} />
        <group quaternion={turn}>
          <hemisphereLight args={["#ffffff", "#8a857c", 1.0]} position={[0, 0, 1]} />
          <directionalLight position={[-300, -400, 600]} intensity={1.5} />
          <directionalLight position={[400, 100, 200]} intensity={0.5} />
        </group>
        <Camera box={wide} look={look} turn={stage === "part" ? null : (scene.data?.rotation ?? null)} />
        {shown && !proving && (
          <PartMesh block={shown} picked={picked} lit={view.lit} roles={roles} hoverTakes={takes} onPick={pick} />
        )}
        {stage === "setups" && scene.data && (
          <>
            <FirstStock setup={view.setup} />
            <SetupMarks scene={scene.data} />
            {setup?.fixtures.map((f) => (
              <FixtureBody
                key={f.id}
                setup={view.setup}
                id={f.id}
                picked={[]}
                onPick={
                  view.picking === "seat" && view.fixture === f.id
                    ? (h) => document.dispatchEvent(new CustomEvent("fenrik-hit", { detail: { ...h, on: f.id } }))
                    : undefined
                }
              />
            ))}
            {setup?.machine && <Table scene={scene.data} size={machine?.table_mm ?? [700, 450]} />}
          </>
        )}
        {(stage === "setups" || stage === "route") && scene.data && geometry.data && scene.data.copies.length > 1 && (
          <Copies scene={scene.data} block={geometry.data} />
        )}
        {(stage === "part" || stage === "setups") && <MeasureMarks />}
        {sketches.map((s) => (
          <SketchLines key={s.id} sketch={s.id} />
        ))}
        {marks.map((p, k) => (
          <mesh
            key={k}
            position={p}
            onClick={(e) => {
              e.stopPropagation();
              document.dispatchEvent(new CustomEvent("fenrik-point", { detail: p }));
            }}
          >
            <sphereGeometry args={[1.2, 12, 8]} />
            <meshBasicMaterial color="#1f7a6d" depthTest={false} />
          </mesh>
        ))}
        {stage === "route" &&
          doc.operations
            .filter((o) => view.rows.includes(o.number))
            .map((o) => <OperationPath key={o.number} number={o.number} />)}
        {stage === "route" &&
          scene.data &&
          doc.operations.some((o) => o.setup === view.setup && o.number === view.rows[0]) &&
          view.rows.length === 1 && <HeightMarks number={view.rows[0]} scene={scene.data} />}
        {proving && <Cutting deviation={view.deviation && stage === "proof"} onBusy={setBusy} />}
        {proving && setup?.fixtures.map((f) => <FixtureBody key={f.id} setup={view.setup} id={f.id} picked={[]} />)}
        {stage === "tools" &&
          scene.data &&
          doc.tools
            .filter((t) => t.number === view.tool)
            .map((t) => (
              <ToolBody
                key={t.number}
                tool={t}
                tip={scene.data.origin as Vec}
                axis={[scene.data.rotation[0][2], scene.data.rotation[1][2], scene.data.rotation[2][2]]}
              />
            ))}
        {proving &&
          proof.data?.findings
            .filter((f) => f.place && scene.data)
            .slice(0, 60)
            .map((f, k) => (
              <mesh key={k} position={toPart(f.place as Vec, scene.data!)}>
                <octahedronGeometry args={[1.4]} />
                <meshBasicMaterial color={f.severity === "fault" ? "#a8324a" : "#b7791f"} depthTest={false} />
              </mesh>
            ))}
        {boxing && geometry.data && (
          <ScreenBox
            block={geometry.data}
            edges={reach === "edge"}
            onDone={(t) => {
              setBoxing(false);
              view.set({
                faces: [...new Set([...view.faces, ...t.faces])],
                edges: [...new Set([...view.edges, ...t.edges])],
              });
            }}
          />
        )}
      </Canvas>
      <div className="overlay">
        {(["iso", "top", "front", "right"] as const).map((name) => (
          <Tooltip key={name} label={`Look from ${name === "iso" ? "the corner" : name}`}>
            <ActionIcon
              size="sm"
              variant="default"
              aria-label={`Look from ${name === "iso" ? "the corner" : name}`}
              onClick={() => setLook({ name, count: look.count + 1 })}
            >
              {{ iso: "◇", top: "▔", front: "▁", right: "▕" }[name]}
            </ActionIcon>
          </Tooltip>
        ))}
        {stage === "part" && doc.part && (
          <>
            <Select
              size="xs"
              w={170}
              aria-label="A click takes"
              value={view.reach}
              data={REACHES}
              allowDeselect={false}
              maxDropdownHeight={340}
              onChange={(v) => view.set({ reach: v as Reach })}
            />
            <Tooltip label="Draw a box; everything wholly inside is taken">
              <Button
                size="compact-sm"
                variant={boxing ? "filled" : "default"}
                aria-pressed={boxing}
                onClick={() => setBoxing(!boxing)}
              >
                Box
              </Button>
            </Tooltip>
          </>
        )}
        {busy && (
          <Group gap={6}>
            <Loader size="xs" />
            <span className="faint">cutting</span>
          </Group>
        )}
        {view.picking && (
          <Group gap={6}>
            <span>{PROMPTS[view.picking]}</span>
            <Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "" })}>
              Stop picking
            </Button>
          </Group>
        )}
      </div>
      {!doc.part && (
        <div className="empty">
          <div>
            <p style={{ fontSize: 16 }}>Drop a model here: STEP, IGES, BREP, STL, 3MF or OBJ.</p>
            <p>It stays on this machine.</p>
          </div>
        </div>
      )}
      {geometry.error && <div className="empty fault">{geometry.error.message}</div>}
      {stage === "route" && view.rows.length > 0 && (
        <div className="legend" aria-label="Kinds of motion">
          {[KINDS[3], { ...KINDS[2], name: "entry and exit" }, KINDS[4], KINDS[0]].map((k) => (
            <span key={k.name}>
              <i className={k.dash ? "dash" : ""} style={{ borderColor: k.colour }} />
              {k.name}
            </span>
          ))}
        </div>
      )}
      {stage === "proof" && view.deviation && proof.data && (
        <DeviationScale deviation={proof.data.deviation as never} band={doc.proof.band_mm} />
      )}
    </section>
  );
}

/** A model without some of its bodies. */
function withoutBodies(block: NonNullable<ReturnType<typeof useGeometry>["data"]>, bodyOf: number[], hidden: number[]) {
  const ids = block.face_ids as Uint32Array,
    corners = block.triangles as Uint32Array,
    kept: number[] = [],
    faces: number[] = [];
  for (let t = 0; t < ids.length; t++)
    if (!hidden.includes(bodyOf[ids[t]])) {
      kept.push(corners[3 * t], corners[3 * t + 1], corners[3 * t + 2]);
      faces.push(ids[t]);
    }
  return { ...block, triangles: new Uint32Array(kept), face_ids: new Uint32Array(faces) };
}

/** Stock and tool at the moment of the proof. */
function Cutting({ deviation, onBusy }: { deviation: boolean; onBusy: (busy: boolean) => void }) {
  const { id, doc, setNote } = useJob();
  const { setup } = useView();
  const columns = useColumns(setup).data,
    proofKey = useProofKey(setup),
    moment = useMoment();
  const i = columns && moment ? Math.min(moment, columns.line.length) - 1 : -1;
  const running = columns && i >= 0 ? doc.tools.find((t) => t.number === columns.tool[i]) : undefined;
  return (
    <>
      <StockBricks
        url={`/api/jobs/${id}/setups/${setup}/proof/stock`}
        proofKey={proofKey}
        motion={moment}
        deviation={deviation}
        band={doc.proof.band_mm}
        onBusy={onBusy}
        onError={setNote}
      />
      {columns && running && !deviation && (
        <ToolBody
          tool={running}
          tip={[columns.point[3 * i], columns.point[3 * i + 1], columns.point[3 * i + 2]]}
          axis={columns.meta.axis ?? [0, 0, 1]}
        />
      )}
    </>
  );
}

function OperationPath({ number }: { number: number }) {
  const path = usePath(number);
  return path.data ? (
    <group>
      <PathLines block={path.data} />
      {path.data.meta.unreached.map((u: { in_part: Vec }, k: number) => (
        <mesh key={k} position={u.in_part}>
          <octahedronGeometry args={[1.6]} />
          <meshBasicMaterial color="#b7791f" depthTest={false} />
        </mesh>
      ))}
    </group>
  ) : null;
}
