import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { BufferAttribute, BufferGeometry, DoubleSide, Matrix4, Vector3 } from "three";
import type { Block, Scene } from "../api/client";
import type { Vec } from "../job/document";
import { useCurves, useFirstStock, useFixtureGeometry, useMeasurements } from "../job/queries";
import { useJob } from "../job/useJob";
import { Label } from "./Label";
import { PartMesh } from "./PartMesh";
import type { Hit } from "./taking";

/** The kept measurements: a line and its figure each. */
export function MeasureMarks() {
  const now = useMeasurements();
  const { doc } = useJob();
  if (!doc.measurements.length) return null;
  return (
    <>
      {now.data
        ?.filter((m) => m.measured && doc.measurements.some((d) => d.id === m.id))
        .map((m) => (
          <MeasureMark key={m.id} measured={m.measured as never} />
        ))}
    </>
  );
}

type Measured = { values: { name: string; value: number; unit: string }[]; line: Vec[] };

export function MeasureMark({ measured: m }: { measured: Measured }) {
  const line = useMemo(
    () =>
      m.line.length === 2
        ? new BufferGeometry().setAttribute("position", new BufferAttribute(new Float32Array(m.line.flat()), 3))
        : null,
    [m],
  );
  const first = m.values.find((v) => v.name === "wall thickness") ?? m.values[0];
  if (!line || !first) return null;
  const at = m.line[0].map((v, i) => (v + m.line[1][i]) / 2) as Vec;
  return (
    <group>
      <lineSegments geometry={line} renderOrder={8}>
        <lineBasicMaterial color="#22262a" depthTest={false} />
      </lineSegments>
      {m.line.map((p, k) => (
        <mesh key={k} position={p} renderOrder={8}>
          <octahedronGeometry args={[0.6]} />
          <meshBasicMaterial color="#22262a" depthTest={false} />
        </mesh>
      ))}
      <Label at={at} text={`${Math.round(first.value * 1000) / 1000} ${first.unit}`} />
    </group>
  );
}

/** The curves of a sketch. */
export function SketchLines({ sketch }: { sketch: string }) {
  const curves = useCurves(sketch);
  const { invalidate } = useThree();
  const geometry = useMemo(() => {
    const b = curves.data,
      out: number[] = [];
    if (b)
      for (let c = 0, at = 0; c < b.counts.length; at += b.counts[c++])
        for (let i = at; i + 1 < at + b.counts[c]; i++) out.push(...b.points.subarray(3 * i, 3 * i + 6));
    return new BufferGeometry().setAttribute("position", new BufferAttribute(new Float32Array(out), 3));
  }, [curves.data]);
  useEffect(() => {
    invalidate();
    return () => geometry.dispose();
  }, [geometry, invalidate]);
  return (
    <lineSegments geometry={geometry} renderOrder={4}>
      <lineBasicMaterial color="#33508a" depthTest={false} />
    </lineSegments>
  );
}

/** The stock as it comes: translucent stone. */
export function FirstStock({ setup }: { setup: string }) {
  const stock = useFirstStock(setup);
  const { invalidate } = useThree();
  const geometry = useMemo(() => {
    const b = stock.data;
    if (!b) return null;
    const g = new BufferGeometry();
    g.setAttribute("position", new BufferAttribute(b.vertices.slice(), 3));
    g.setIndex(new BufferAttribute(b.triangles.slice(), 1));
    const flat = g.toNonIndexed();
    flat.computeVertexNormals();
    return flat;
  }, [stock.data]);
  useEffect(() => {
    invalidate();
    return () => geometry?.dispose();
  }, [geometry, invalidate]);
  return (
    geometry && (
      <mesh geometry={geometry}>
        <meshLambertMaterial color="#c8bfa8" transparent opacity={0.28} depthWrite={false} side={DoubleSide} />
      </mesh>
    )
  );
}

/** A fixture in its place; its faces can be taken while it is being seated. */
export function FixtureBody({
  setup,
  id,
  picked,
  onPick,
}: {
  setup: string;
  id: string;
  picked: number[];
  onPick?: (hit: Hit) => void;
}) {
  const block = useFixtureGeometry(setup, id);
  const chosen = useMemo(() => ({ faces: picked, edges: [] }), [picked]);
  return block.data ? (
    <PartMesh
      block={block.data}
      picked={chosen}
      roles={fixtureRole}
      ghost={!onPick}
      hoverTakes={onPick && ((h) => ({ faces: [h.face], edges: [] }))}
      onPick={onPick && ((h) => onPick(h))}
    />
  ) : null;
}
const fixtureRole = () => "fixture";

/** The other copies of a grid. */
export function Copies({ scene, block }: { scene: Scene; block: Block }) {
  const { invalidate } = useThree();
  const geometry = useMemo(() => {
    const g = new BufferGeometry();
    g.setAttribute("position", new BufferAttribute(block.vertices.slice(), 3));
    g.setIndex(new BufferAttribute(block.triangles.slice(), 1));
    const flat = g.toNonIndexed();
    flat.computeVertexNormals();
    return flat;
  }, [block]);
  useEffect(() => {
    invalidate();
    return () => geometry.dispose();
  }, [geometry, invalidate]);
  const middle = useMemo(() => {
    geometry.computeBoundingBox();
    return geometry.boundingBox!.getCenter(new Vector3());
  }, [geometry]);
  return (
    <>
      {scene.copies.slice(1).map((c) => {
        const [r, s] = [c.turn, c.shift];
        const m = new Matrix4().set(
          r[0][0],
          r[0][1],
          r[0][2],
          s[0],
          r[1][0],
          r[1][1],
          r[1][2],
          s[1],
          r[2][0],
          r[2][1],
          r[2][2],
          s[2],
          0,
          0,
          0,
          1,
        );
        const at = r.map((row, i) => row[0] * middle.x + row[1] * middle.y + row[2] * middle.z + s[i]) as Vec;
        return (
          <group key={c.number}>
            <mesh geometry={geometry} matrixAutoUpdate={false} matrix={m}>
              <meshLambertMaterial color={c.mirrored ? "#a8a3b4" : "#b9b2a7"} side={DoubleSide} />
            </mesh>
            <Label at={at} text={`${c.number}${c.mirrored ? " mirrored" : ""}`} />
          </group>
        );
      })}
    </>
  );
}

/** The machine's table under the setup. */
export function Table({ scene, size }: { scene: Scene; size: [number, number] }) {
  const r = scene.rotation;
  const m = useMemo(() => {
    const middle = [
      (scene.stock_low[0] + scene.stock_high[0]) / 2,
      (scene.stock_low[1] + scene.stock_high[1]) / 2,
      scene.table_level - 5,
    ];
    const at = r.map((row) => row.reduce((sum, v, c) => sum + v * middle[c], 0));
    return new Matrix4().set(
      r[0][0],
      r[0][1],
      r[0][2],
      at[0],
      r[1][0],
      r[1][1],
      r[1][2],
      at[1],
      r[2][0],
      r[2][1],
      r[2][2],
      at[2],
      0,
      0,
      0,
      1,
    );
  }, [scene, r]);
  return (
    <mesh matrixAutoUpdate={false} matrix={m}>
      <boxGeometry args={[size[0], size[1], 10]} />
      <meshLambertMaterial color="#aeb3b8" transparent opacity={0.35} depthWrite={false} />
    </mesh>
  );
}
