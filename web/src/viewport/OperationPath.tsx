import type { Vec } from "../job/document";
import { usePath } from "../job/queries";
import { PathLines } from "./PathLines";

/** The path of a row, and the places that it could not reach. */
export function OperationPath({ number }: { number: number }) {
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
