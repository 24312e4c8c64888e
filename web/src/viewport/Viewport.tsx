import { ActionIcon, Button, Group, Loader, Tooltip } from "@mantine/core";
import { Canvas } from "@react-three/fiber";
import { useMemo, useState } from "react";
import { Box3, BoxGeometry, EdgesGeometry, Matrix4, Quaternion, Vector3 } from "three";
import { usePart, useColumns, useGeometry, usePath, useProof, useScene } from "../job/queries";
import type { Vec } from "../job/document";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { KINDS } from "../theme";
import { Camera } from "./Camera";
import { DeviationScale } from "./DeviationScale";
import { PartMesh } from "./PartMesh";
import { PathLines } from "./PathLines";
import { StockBricks } from "./StockBricks";
import { ToolBody } from "./ToolBody";

/** The middle of the screen: part, stock, frames, paths, tool, whatever the stage needs. */
export function Viewport({ onFile }: { onFile: (file: File) => void }) {
  const { id, doc, version, setNote, status } = useJob();
  const view = useView();
  const geometry = useGeometry();
  const part = usePart();
  const scene = useScene(view.setup);
  const columns = useColumns(view.setup);
  const proof = useProof(view.setup);
  const [look, setLook] = useState({ name: "iso", count: 0 });
  const [dropping, setDropping] = useState(false);
  const [busy, setBusy] = useState(false);
  const stage = view.stage;
  const proving = (stage === "proof" || stage === "release") && !!columns.data;
  const box = useMemo(() => {
    if (!geometry.data) return null;
    const b = new Box3();
    const v = geometry.data.vertices as Float32Array;
    for (let i = 0; i < v.length; i += 3) b.expandByPoint(new Vector3(v[i], v[i + 1], v[i + 2]));
    return b;
  }, [geometry.data]);
  const tip = useMemo<Vec | null>(() => {
    const c = columns.data;
    if (!c || view.motion < 1) return null;
    const i = Math.min(view.motion, c.line.length) - 1;
    return [c.point[3 * i], c.point[3 * i + 1], c.point[3 * i + 2]];
  }, [columns.data, view.motion]);
  const axis = useMemo<Vec>(() => columns.data?.meta.axis ?? [0, 0, 1], [columns.data]);
  const running = doc.tools.find((t) => t.number === (columns.data && view.motion ? columns.data.tool[Math.min(view.motion, columns.data.line.length) - 1] : -1));
  const marks = (view.picking === "vertex" || view.picking === "hole centre") && part.data ? part.data.zero_points[view.picking] : [];

  return (
    <section className={`view${dropping ? " dropping" : ""}`} aria-label="Viewport" data-testid="viewport"
      onDragOver={(e) => { e.preventDefault(); setDropping(true); }} onDragLeave={() => setDropping(false)}
      onDrop={(e) => { e.preventDefault(); setDropping(false); const f = e.dataTransfer.files[0]; if (f) onFile(f); }}>
      <Canvas orthographic frameloop="demand" dpr={1} gl={{ antialias: true, preserveDrawingBuffer: true }}>
        <ambientLight intensity={1.1} />
        <hemisphereLight args={["#ffffff", "#8a857c", 1.0]} position={[0, 0, 1]} />
        <directionalLight position={[-300, -400, 600]} intensity={1.5} />
        <directionalLight position={[400, 100, 200]} intensity={0.5} />
        <Camera box={box} look={look} />
        {geometry.data && !proving && (
          <PartMesh block={geometry.data} picked={view.faces} ghost={false}
            onPick={(face, extend) => {
              const kept = extend ? view.faces.filter((f) => f !== face) : [];
              view.set({ faces: view.faces.includes(face) ? kept : [...kept, face] });
            }} />
        )}
        {stage === "setups" && scene.data && <SetupMarks scene={scene.data} />}
        {marks.map((p, k) => (
          <mesh key={k} position={p} onClick={(e) => { e.stopPropagation(); document.dispatchEvent(new CustomEvent("fenrik-point", { detail: p })); }}>
            <sphereGeometry args={[1.2, 12, 8]} /><meshBasicMaterial color="#1f7a6d" depthTest={false} />
          </mesh>
        ))}
        {stage === "route" && doc.operations.filter((o) => view.rows.includes(o.number)).map((o) => (
          <OperationPath key={o.number} number={o.number} ready={status?.operations.find((s) => s.number === o.number)?.state === "ready"} />
        ))}
        {proving && (
          <StockBricks url={`/api/jobs/${id}/setups/${view.setup}/proof/stock`} proofKey={`${id} ${view.setup} ${version}`} motion={view.motion}
            deviation={view.deviation && stage === "proof"} band={doc.proof.band_mm} onBusy={setBusy} onError={setNote} />
        )}
        {proving && tip && running && !(view.deviation && stage === "proof") && <ToolBody tool={running} tip={tip} axis={axis} />}
        {stage === "tools" && scene.data && doc.tools.filter((t) => t.number === view.tool).map((t) => (
          <ToolBody key={t.number} tool={t} tip={scene.data.origin as Vec} axis={[scene.data.rotation[0][2], scene.data.rotation[1][2], scene.data.rotation[2][2]]} />
        ))}
        {proving && proof.data?.findings.filter((f) => f.place && scene.data).slice(0, 60).map((f, k) => (
          <mesh key={k} position={toPart(f.place as Vec, scene.data!)}><octahedronGeometry args={[1.4]} /><meshBasicMaterial color={f.severity === "fault" ? "#a8324a" : "#b7791f"} depthTest={false} /></mesh>
        ))}
      </Canvas>
      <div className="overlay">
        {(["iso", "top", "front", "right"] as const).map((name) => (
          <Tooltip key={name} label={`Look from ${name === "iso" ? "the corner" : name}`}>
            <ActionIcon size="sm" variant="default" aria-label={`Look from ${name === "iso" ? "the corner" : name}`} onClick={() => setLook({ name, count: look.count + 1 })}>{{ iso: "◇", top: "▔", front: "▁", right: "▕" }[name]}</ActionIcon>
          </Tooltip>
        ))}
        {busy && <Group gap={6}><Loader size="xs" /><span className="faint">cutting</span></Group>}
        {view.picking && <Group gap={6}><span>Click a {view.picking === "up" ? "flat face" : view.picking === "boundary" ? "face (Shift for more)" : view.picking}.</span><Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "" })}>Stop picking</Button></Group>}
      </div>
      {!doc.part && <div className="empty"><div><p style={{ fontSize: 16 }}>Drop a model here: STEP, IGES, BREP or STL.</p><p>It stays on this machine.</p></div></div>}
      {geometry.error && <div className="empty fault">{geometry.error.message}</div>}
      {stage === "route" && view.rows.length > 0 && (
        <div className="legend" aria-label="Kinds of motion">
          {[KINDS[3], { ...KINDS[2], name: "entry and exit" }, KINDS[4], KINDS[0]].map((k) => <span key={k.name}><i className={k.dash ? "dash" : ""} style={{ borderColor: k.colour }} />{k.name}</span>)}
        </div>
      )}
      {stage === "proof" && view.deviation && proof.data && <DeviationScale deviation={proof.data.deviation as never} band={doc.proof.band_mm} />}
    </section>
  );
}

function OperationPath({ number, ready }: { number: number; ready: boolean }) {
  const path = usePath(number, ready);
  return path.data ? (
    <group>
      <PathLines block={path.data} />
      {path.data.meta.unreached.map((u: { in_part: Vec }, k: number) => <mesh key={k} position={u.in_part}><octahedronGeometry args={[1.6]} /><meshBasicMaterial color="#b7791f" depthTest={false} /></mesh>)}
    </group>
  ) : null;
}

type SceneData = { rotation: number[][]; origin: number[]; stock_low: number[]; stock_high: number[]; zero: number[] };

/** A place of the work frame in part coordinates. */
function toPart(place: Vec, scene: SceneData): Vec {
  return scene.origin.map((o, r) => o + scene.rotation[r].reduce((sum, m, c) => sum + m * place[c], 0)) as Vec;
}

function SetupMarks({ scene }: { scene: SceneData }) {
  const { turn, centre, size, edges, length } = useMemo(() => {
    const r = scene.rotation;
    const turn = new Quaternion().setFromRotationMatrix(new Matrix4().set(r[0][0], r[0][1], r[0][2], 0, r[1][0], r[1][1], r[1][2], 0, r[2][0], r[2][1], r[2][2], 0, 0, 0, 0, 1));
    const size = scene.stock_high.map((h, i) => h - scene.stock_low[i]) as Vec;
    const middle = new Vector3(...(scene.stock_high.map((h, i) => (h + scene.stock_low[i]) / 2) as Vec)).applyQuaternion(turn);
    const geometry = new BoxGeometry(...size);
    return { turn, centre: middle, size, edges: new EdgesGeometry(geometry), length: Math.max(...size) * 0.3 };
  }, [scene]);
  return (
    <>
      <group position={centre} quaternion={turn}>
        <mesh><boxGeometry args={size} /><meshStandardMaterial color="#c8bfa8" transparent opacity={0.25} depthWrite={false} /></mesh>
        <lineSegments geometry={edges}><lineBasicMaterial color="#7d7462" /></lineSegments>
      </group>
      <group position={scene.origin as Vec} quaternion={turn}>
        {([["#a8324a", [1, 0, 0]], ["#1f7a6d", [0, 1, 0]], ["#33508a", [0, 0, 1]]] as [string, Vec][]).map(([colour, d]) => (
          <arrowHelper key={colour} args={[new Vector3(...d), new Vector3(), length * (d[2] ? 1.2 : d[0] ? 1 : 0.8), colour, length * 0.18, length * 0.08]} />
        ))}
        <mesh><sphereGeometry args={[length * 0.035, 16, 12]} /><meshBasicMaterial color="#22262a" depthTest={false} /></mesh>
      </group>
    </>
  );
}
