import { useThree, type ThreeEvent } from "@react-three/fiber";
import { useEffect, useMemo, useState } from "react";
import { BufferAttribute, BufferGeometry, Color, DoubleSide } from "three";
import { acceleratedRaycast, computeBoundsTree, disposeBoundsTree } from "three-mesh-bvh";
import { Mesh as ThreeMesh } from "three";
import type { Block } from "../api/client";

BufferGeometry.prototype.computeBoundsTree = computeBoundsTree;
BufferGeometry.prototype.disposeBoundsTree = disposeBoundsTree;
ThreeMesh.prototype.raycast = acceleratedRaycast;

const PLAIN = new Color("#b9b2a7"), HOVER = new Color("#8fbdb4"), PICKED = new Color("#1f7a6d");

type Props = { block: Block; picked: number[]; ghost?: boolean; onPick?: (face: number, extend: boolean) => void; onHover?: (face: number | null) => void };

/** The part: faces that light up and can be taken, and its edges. */
export function PartMesh({ block, picked, ghost, onPick, onHover }: Props) {
  const { invalidate } = useThree();
  const [hover, setHover] = useState<number | null>(null);
  const geometry = useMemo(() => {
    const corners = block.triangles as Uint32Array;
    const position = new Float32Array(corners.length * 3);
    for (let i = 0; i < corners.length; i++) position.set((block.vertices as Float32Array).subarray(3 * corners[i], 3 * corners[i] + 3), 3 * i);
    const g = new BufferGeometry();
    g.setAttribute("position", new BufferAttribute(position, 3));
    g.setAttribute("color", new BufferAttribute(new Float32Array(position.length), 3));
    g.computeVertexNormals();
    g.computeBoundsTree({ indirect: true } as never);
    return g;
  }, [block]);
  const edges = useMemo(() => {
    const counts = block.edge_counts as Uint32Array, points = block.edge_points as Float32Array;
    const out: number[] = [];
    let at = 0;
    for (const n of counts) {
      for (let i = 0; i + 1 < n; i++) out.push(...points.subarray(3 * (at + i), 3 * (at + i) + 6));
      at += n;
    }
    return new BufferGeometry().setAttribute("position", new BufferAttribute(new Float32Array(out), 3));
  }, [block]);
  useEffect(() => () => { geometry.disposeBoundsTree?.(); geometry.dispose(); edges.dispose(); }, [geometry, edges]);
  useEffect(() => {
    const ids = block.face_ids as Uint32Array, colour = geometry.getAttribute("color");
    const chosen = new Set(picked);
    for (let t = 0; t < ids.length; t++) {
      const c = chosen.has(ids[t]) ? PICKED : ids[t] === hover ? HOVER : PLAIN;
      for (let k = 0; k < 3; k++) colour.setXYZ(3 * t + k, c.r, c.g, c.b);
    }
    colour.needsUpdate = true;
    invalidate();
  }, [block, geometry, picked, hover, invalidate]);
  const faceOf = (e: ThreeEvent<MouseEvent>) => (e.faceIndex == null ? null : (block.face_ids as Uint32Array)[e.faceIndex]);
  const show = (face: number | null) => { if (face !== hover) { setHover(face); onHover?.(face); } };
  return (
    <group>
      <mesh geometry={geometry}
        onPointerMove={onPick && ((e) => { e.stopPropagation(); show(faceOf(e)); })}
        onPointerOut={onPick && (() => show(null))}
        onClick={onPick && ((e) => { e.stopPropagation(); const f = faceOf(e); if (f != null && e.delta < 4) onPick(f, e.shiftKey || e.ctrlKey); })}>
        <meshStandardMaterial vertexColors flatShading={false} roughness={0.75} metalness={0.05} side={DoubleSide} transparent={ghost} opacity={ghost ? 0.35 : 1} depthWrite={!ghost} polygonOffset polygonOffsetFactor={1} polygonOffsetUnits={1} />
      </mesh>
      <lineSegments geometry={edges}><lineBasicMaterial color="#4a4640" transparent opacity={ghost ? 0.4 : 0.9} /></lineSegments>
    </group>
  );
}
