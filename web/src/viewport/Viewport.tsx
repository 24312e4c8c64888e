import { Canvas } from "@react-three/fiber";
import { useMemo, useState } from "react";
import type { Block } from "../api/client";
import { Quaternion } from "three";
import type { Vec } from "../job/document";
import { pick, usePicks } from "../job/picking";
import { useColumns, useFeatures, useGeometry, useProof, useScene } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { KINDS } from "../theme";
import { useArmRow } from "../job/useArmRow";
import { ArmLegend } from "./ArmLegend";
import { ArmPath } from "./ArmPath";
import { Camera } from "./Camera";
import { Cutting } from "./Cutting";
import { DeviationScale } from "./DeviationScale";
import { Copies, FixtureBody, MeasureMarks, SketchLines } from "./Extras";
import { HeightMarks } from "./HeightMarks";
import { FindingMarks, ZeroMarks } from "./Marks";
import { LeftDots, LeftLegend } from "./LeftMap";
import { useDots } from "./motion";
import { MachineBodies, MovedWork } from "./MachineBodies";
import { OperationPath } from "./OperationPath";
import { Overlay } from "./Overlay";
import { PartMesh } from "./PartMesh";
import { RowShown } from "./RowShown";
import { RowStock, useStockRow } from "./RowStock";
import { ScreenBox } from "./ScreenBox";
import { SetupBodies } from "./SetupBodies";
import { turnOf } from "./SetupMarks";
import { featureOf } from "./taking";
import { ToolBody } from "./ToolBody";
import { useBounds } from "./useBounds";
import { useShownPart } from "./useShownPart";
import { useTaking } from "./useTaking";

/** The middle of the screen: part, stock, frames, paths, tool, whatever the stage needs. */
export function Viewport({ onFile }: { onFile: (file: File) => void }) {
  const { doc } = useJob();
  const view = useView();
  const picks = usePicks();
  const geometry = useGeometry();
  const features = useFeatures();
  const scene = useScene(view.setup);
  const columns = useColumns(view.setup);
  const proof = useProof(view.setup);
  const [look, setLook] = useState({ name: "iso", count: 0 });
  const [dropping, setDropping] = useState(false);
  const [busy, setBusy] = useState(false);
  const [boxing, setBoxing] = useState(false);
  const [full, setFull] = useState(2);
  const [stockMeta, setStockMeta] = useState<Block["meta"] | null>(null);
  const rowStock = useStockRow();
  const stage = view.stage;
  const proving = (stage === "proof" || stage === "release") && !!columns.data;
  const box = useBounds(stage, view.setup);
  const { reach, takes, take } = useTaking();
  const picked = useMemo(() => ({ faces: picks.faces, edges: picks.edges }), [picks.faces, picks.edges]);
  const { shown, roles } = useShownPart();
  const turn = useMemo(() => {
    const r = stage === "part" ? null : scene.data?.rotation;
    return r ? turnOf(r) : new Quaternion();
  }, [stage, scene.data]);
  const hole = picks.purpose === "up hole" && picks.faces.length ? featureOf(features.data, picks.faces[0]) : null;
  const setup = doc.setups.find((s) => s.id === view.setup);
  const armRow = useArmRow();
  const moving = stage === "cell" || (proving && stage === "proof");
  const sketches =
    stage === "part"
      ? doc.sketches.filter((s) => s.id === view.sketch)
      : stage === "route" || stage === "setups"
        ? doc.sketches.filter((s) => s.setup === view.setup)
        : [];

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
        <Camera box={box} look={look} turn={stage === "part" ? null : (scene.data?.rotation ?? null)} />
        <MovedWork setup={view.setup} row={stage === "cell" ? (armRow?.number ?? null) : null} on={moving}>
          {rowStock?.ready && <RowStock row={rowStock.row} full={full} onBusy={setBusy} onMeta={setStockMeta} />}
          {shown && !proving && !rowStock?.ready && (
            <PartMesh block={shown} picked={picked} lit={picks.lit} roles={roles} hoverTakes={takes} onPick={take} />
          )}
          {stage === "setups" && <SetupBodies />}
          {(stage === "setups" || stage === "route") && scene.data && geometry.data && scene.data.copies.length > 1 && (
            <Copies scene={scene.data} block={geometry.data} />
          )}
          {(stage === "part" || stage === "setups") && <MeasureMarks />}
          {sketches.map((s) => (
            <SketchLines key={s.id} sketch={s.id} />
          ))}
          <ZeroMarks />
          {stage === "route" && view.leftOver && <LeftDots />}
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
          {proving && <FindingMarks setup={view.setup} />}
          {stage === "cell" && armRow && <ArmPath number={armRow.number} />}
          {moving && <MachineBodies setup={view.setup} row={stage === "cell" ? (armRow?.number ?? -1) : null} />}
        </MovedWork>
        {boxing && geometry.data && (
          <ScreenBox
            block={geometry.data}
            edges={reach === "edge"}
            onDone={(t) => {
              setBoxing(false);
              pick({
                faces: [...new Set([...picks.faces, ...t.faces])],
                edges: [...new Set([...picks.edges, ...t.edges])],
              });
            }}
          />
        )}
      </Canvas>
      <Overlay
        picking={stage === "part" && !!doc.part}
        boxing={boxing}
        busy={busy}
        onLook={(name) => setLook({ name, count: look.count + 1 })}
        onBox={() => setBoxing(!boxing)}
      />
      {!doc.part && (
        <div className="empty">
          <div>
            <p style={{ fontSize: 16 }}>Drop a model here: STEP, IGES, BREP, STL, 3MF or OBJ.</p>
            <p>It stays on this machine.</p>
          </div>
        </div>
      )}
      {geometry.error && <div className="empty fault">{geometry.error.message}</div>}
      {stage === "route" && view.leftOver && <LeftLegend />}
      {stage === "route" && !view.leftOver && view.rows.length > 0 && (
        <div className="legend" aria-label="Kinds of motion">
          {[KINDS[3], { ...KINDS[2], name: "entry and exit" }, KINDS[4], KINDS[0]].map((k) => (
            <span key={k.name}>
              <i className={k.dash ? "dash" : ""} style={{ borderColor: k.colour }} />
              {k.name}
            </span>
          ))}
        </div>
      )}
      {stage === "route" && !view.leftOver && view.rows.length === 1 && (
        <RowShown full={full} onFull={setFull} meta={stockMeta} />
      )}
      {stage === "cell" && <ArmLegend />}
      {stage === "proof" && view.deviation && proof.data && (
        <DeviationScale deviation={proof.data.deviation as never} band={doc.proof.band_mm} />
      )}
    </section>
  );
}
