import { useThree, type ThreeEvent } from "@react-three/fiber";
import { useCallback, useEffect, useMemo, useRef } from "react";
import { BufferAttribute, BufferGeometry, Color, DoubleSide, Mesh as ThreeMesh } from "three";
import { LineMaterial } from "three/examples/jsm/lines/LineMaterial.js";
import { LineSegments2 } from "three/examples/jsm/lines/LineSegments2.js";
import { LineSegmentsGeometry } from "three/examples/jsm/lines/LineSegmentsGeometry.js";
import { acceleratedRaycast, computeBoundsTree, disposeBoundsTree } from "three-mesh-bvh";
import type { Block } from "../api/client";
import { edgeStarts, type Hit, type Taken } from "./taking";

BufferGeometry.prototype.computeBoundsTree = computeBoundsTree;
BufferGeometry.prototype.disposeBoundsTree = disposeBoundsTree;
ThreeMesh.prototype.raycast = acceleratedRaycast;

const HOVER = new Color("#8fbdb4"),
  PICKED = new Color("#1f7a6d"),
  LIT = new Color("#d6a650");
export const BODY_COLOURS: Record<string, string> = { part: "#b9b2a7", fixture: "#7b8794", stock: "#d6cdb4" };

type Props = {
  block: Block;
  picked: Taken;
  lit?: number[];
  roles?: (face: number) => string;
  ghost?: boolean;
  hoverTakes?: (hit: Hit, extend: boolean) => Taken;
  onPick?: (hit: Hit, add: boolean, extend: boolean) => void;
};

/** Triangles sorted by face, so that a face is one stretch of the colour buffer. */
function sortedByFace(block: Block) {
  const ids = block.face_ids as Uint32Array,
    corners = block.triangles as Uint32Array,
    vertices = block.vertices as Float32Array;
  const count = ids.reduce((m, v) => Math.max(m, v + 1), 0),
    starts = new Uint32Array(count + 1);
  for (const f of ids) starts[f + 1]++;
  for (let f = 0; f < count; f++) starts[f + 1] += starts[f];
  const next = starts.slice(),
    position = new Float32Array(corners.length * 3),
    face = new Uint32Array(ids.length);
  for (let t = 0; t < ids.length; t++) {
    const at = next[ids[t]]++;
    face[at] = ids[t];
    for (let k = 0; k < 3; k++)
      position.set(vertices.subarray(3 * corners[3 * t + k], 3 * corners[3 * t + k] + 3), 9 * at + 3 * k);
  }
  return { starts, position, face, count };
}

/** A solid: faces and edges that light up and can be taken. Only faces that change are painted anew. */
export function PartMesh({ block, picked, lit = [], roles, ghost, hoverTakes, onPick }: Props) {
  const { invalidate, gl } = useThree();
  const sorted = useMemo(() => sortedByFace(block), [block]);
  const geometry = useMemo(() => {
    const g = new BufferGeometry();
    g.setAttribute("position", new BufferAttribute(sorted.position, 3));
    g.setAttribute("color", new BufferAttribute(new Float32Array(sorted.position.length), 3));
    g.computeVertexNormals();
    g.computeBoundsTree({ indirect: true } as never);
    return g;
  }, [sorted]);
  const starts = useMemo(() => edgeStarts(block), [block]);
  const edges = useMemo(() => lineGeometry(block, starts, null), [block, starts]);
  const hovered = useRef<Taken>({ faces: [], edges: [] });
  const marked = useMemo(() => {
    const lines = new LineSegments2(
      new LineSegmentsGeometry(),
      new LineMaterial({ color: "#0b5c50", linewidth: 4, depthTest: false }),
    );
    lines.renderOrder = 5;
    lines.frustumCulled = false;
    lines.raycast = () => undefined;
    return lines;
  }, []);
  useEffect(
    () => () => {
      geometry.disposeBoundsTree?.();
      geometry.dispose();
      edges.dispose();
    },
    [geometry, edges],
  );

  const plain = useMemo(() => {
    const known = new Map(Object.entries(BODY_COLOURS).map(([k, v]) => [k, new Color(v)]));
    return (face: number) => known.get(roles?.(face) ?? "part") ?? known.get("part")!;
  }, [roles]);
  const paint = useCallback(
    (faces: Iterable<number>) => {
      const colour = geometry.getAttribute("color") as BufferAttribute,
        data = colour.array as Float32Array;
      const chosen = new Set(picked.faces),
        glow = new Set(lit),
        under = new Set(hovered.current.faces);
      for (const f of faces) {
        if (f >= sorted.count) continue;
        const c = chosen.has(f) ? PICKED : under.has(f) ? HOVER : glow.has(f) ? LIT : plain(f);
        const from = 9 * sorted.starts[f],
          to = 9 * sorted.starts[f + 1];
        for (let i = from; i < to; i += 3) {
          data[i] = c.r;
          data[i + 1] = c.g;
          data[i + 2] = c.b;
        }
        colour.addUpdateRange(from, to - from);
      }
      colour.needsUpdate = true;
      const wanted = [...new Set([...picked.edges, ...hovered.current.edges])];
      const segments = lineGeometry(block, starts, wanted).getAttribute("position").array as Float32Array;
      marked.geometry.dispose();
      marked.geometry = new LineSegmentsGeometry().setPositions(segments.length ? segments : [0, 0, 0, 0, 0, 0]);
      marked.visible = segments.length > 0;
      invalidate();
    },
    [block, geometry, invalidate, lit, marked, picked, plain, sorted, starts],
  );
  useEffect(() => paint(Array.from({ length: sorted.count }, (_, f) => f)), [paint, sorted]);

  useEffect(() => {
    const mark = () => performance.mark("fenrik pointer");
    gl.domElement.addEventListener("pointermove", mark, true);
    return () => gl.domElement.removeEventListener("pointermove", mark, true);
  }, [gl]);
  const hitOf = (e: ThreeEvent<MouseEvent>): Hit | null =>
    e.faceIndex == null ? null : { face: sorted.face[e.faceIndex], point: [e.point.x, e.point.y, e.point.z] };
  const show = (next: Taken) => {
    const before = hovered.current;
    if (same(before.faces, next.faces) && same(before.edges, next.edges)) return;
    hovered.current = next;
    paint([...before.faces, ...next.faces]);
  };
  return (
    <group>
      <mesh
        geometry={geometry}
        onPointerMove={
          hoverTakes &&
          ((e) => {
            e.stopPropagation();
            const hit = hitOf(e);
            if (hit) show(hoverTakes(hit, e.altKey));
            performance.measure("fenrik hover", "fenrik pointer");
          })
        }
        onPointerOut={hoverTakes && (() => show({ faces: [], edges: [] }))}
        onClick={
          onPick &&
          ((e) => {
            e.stopPropagation();
            const hit = hitOf(e);
            if (hit && e.delta < 4) onPick(hit, e.shiftKey || e.ctrlKey, e.altKey);
          })
        }
      >
        <meshLambertMaterial
          vertexColors
          flatShading={false}
          side={DoubleSide}
          transparent={ghost}
          opacity={ghost ? 0.35 : 1}
          depthWrite={!ghost}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </mesh>
      <lineSegments geometry={edges}>
        <lineBasicMaterial color="#4a4640" transparent opacity={ghost ? 0.4 : 0.9} />
      </lineSegments>
      <primitive object={marked} />
    </group>
  );
}

const same = (a: number[], b: number[]) => a.length === b.length && a.every((v, i) => v === b[i]);

/** Line segments of some edges, or of all. */
function lineGeometry(block: Block, starts: Uint32Array, wanted: number[] | null): BufferGeometry {
  const points = block.edge_points as Float32Array,
    list = wanted ?? Array.from({ length: starts.length - 1 }, (_, i) => i);
  const out = new Float32Array(6 * list.reduce((n, e) => n + Math.max(starts[e + 1] - starts[e] - 1, 0), 0));
  let at = 0;
  for (const e of list)
    for (let i = starts[e]; i + 1 < starts[e + 1]; i++, at += 6) out.set(points.subarray(3 * i, 3 * i + 6), at);
  return new BufferGeometry().setAttribute("position", new BufferAttribute(out, 3));
}
