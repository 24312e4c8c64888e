import { useMemo } from "react";
import { Matrix4, Quaternion, Vector3 } from "three";
import type { Scene } from "../api/client";
import type { Vec } from "../job/document";

/** A place of the work frame in part coordinates. */
export function toPart(place: Vec, scene: Pick<Scene, "origin" | "rotation">): Vec {
  return scene.origin.map((o, r) => o + scene.rotation[r].reduce((sum, m, c) => sum + m * place[c], 0)) as Vec;
}

/** How a frame is turned against the part. */
export const turnOf = (r: number[][]): Quaternion =>
  new Quaternion().setFromRotationMatrix(
    new Matrix4().set(
      r[0][0],
      r[0][1],
      r[0][2],
      0,
      r[1][0],
      r[1][1],
      r[1][2],
      0,
      r[2][0],
      r[2][1],
      r[2][2],
      0,
      0,
      0,
      0,
      1,
    ),
  );

/** The work zero with its axes. */
export function SetupMarks({ scene }: { scene: Scene }) {
  const turn = useMemo(() => turnOf(scene.rotation), [scene]);
  const length = Math.max(...scene.stock_high.map((h, i) => h - scene.stock_low[i])) * 0.3;
  return (
    <group position={scene.origin as Vec} quaternion={turn}>
      {(
        [
          ["#a8324a", [1, 0, 0]],
          ["#1f7a6d", [0, 1, 0]],
          ["#33508a", [0, 0, 1]],
        ] as [string, Vec][]
      ).map(([colour, d]) => (
        <arrowHelper
          key={colour}
          args={[
            new Vector3(...d),
            new Vector3(),
            length * (d[2] ? 1.2 : d[0] ? 1 : 0.8),
            colour,
            length * 0.18,
            length * 0.08,
          ]}
        />
      ))}
      <mesh>
        <sphereGeometry args={[length * 0.035, 16, 12]} />
        <meshBasicMaterial color="#22262a" depthTest={false} />
      </mesh>
    </group>
  );
}
