import type { Vec } from "../job/document";
import { MARK, giveClick, usePicks } from "../job/picking";
import { usePart, useProof, useScene } from "../job/queries";
import { toPart } from "./SetupMarks";

const SHOWN = 60;

/** Places that a work zero can be picked at. */
export function ZeroMarks() {
  const { purpose } = usePicks();
  const part = usePart().data;
  if (!part || (purpose !== "vertex" && purpose !== "hole centre")) return null;
  return part.zero_points[purpose].map((p, k) => (
    <mesh
      key={k}
      position={p}
      onClick={(e) => {
        e.stopPropagation();
        giveClick({ on: MARK, face: -1, point: p });
      }}
    >
      <sphereGeometry args={[1.2, 12, 8]} />
      <meshBasicMaterial color="#1f7a6d" depthTest={false} />
    </mesh>
  ));
}

/** Where the proof found something. */
export function FindingMarks({ setup }: { setup: string }) {
  const proof = useProof(setup).data,
    scene = useScene(setup).data;
  if (!proof || !scene) return null;
  return proof.findings
    .filter((f) => f.place)
    .slice(0, SHOWN)
    .map((f, k) => (
      <mesh key={k} position={toPart(f.place as Vec, scene)}>
        <octahedronGeometry args={[1.4]} />
        <meshBasicMaterial color={f.severity === "fault" ? "#a8324a" : "#b7791f"} depthTest={false} />
      </mesh>
    ));
}
