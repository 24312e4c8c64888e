import type { Vec } from "../job/document";
import { usePath } from "../job/queries";
import { useSpot } from "../job/spot";
import { useView } from "../job/view";
import type { LoadTold } from "./loads";
import { PathLines } from "./PathLines";

/** The path of a row, the places that it could not reach, and where its load is above what it holds. */
export function OperationPath({ number }: { number: number }) {
  const path = usePath(number);
  const { load } = useView();
  const spot = useSpot();
  if (!path.data) return null;
  const told = path.data.meta.load as LoadTold | undefined;
  return (
    <group>
      <PathLines block={path.data} by={load} />
      {path.data.meta.unreached.map((u: { in_part: Vec }, k: number) => (
        <mesh key={k} position={u.in_part}>
          <octahedronGeometry args={[1.6]} />
          <meshBasicMaterial color="#b7791f" depthTest={false} />
        </mesh>
      ))}
      {load === "engagement" &&
        told?.above.map((a) => (
          <mesh key={a.motion} position={a.in_part}>
            <tetrahedronGeometry args={[spot && spot.join() === a.in_part.join() ? 2.2 : 1.3]} />
            <meshBasicMaterial color="#a8324a" depthTest={false} />
          </mesh>
        ))}
    </group>
  );
}
