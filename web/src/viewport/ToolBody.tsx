import { useEffect, useMemo } from "react";
import { DoubleSide, LatheGeometry, Quaternion, Vector2, Vector3 } from "three";
import type { Tool, Vec } from "../job/document";
import { useOutline } from "../job/queries";

const COLOURS: Record<string, string> = { cutter: "#c9b26a", neck: "#a9aeb3", shank: "#9aa0a6", holder: "#6b7278" };

/** The tool as a solid of revolution, its tip at a place, its axis along a direction. */
export function ToolBody({ tool, tip, axis }: { tool: Tool; tip: Vec; axis: Vec }) {
  const outline = useOutline(tool).data;
  const bodies = useMemo(
    () =>
      (outline ?? []).map((b) => ({
        name: b.name,
        geometry: new LatheGeometry(
          b.points.map(([x, y]) => new Vector2(x, y)),
          40,
        ),
      })),
    [outline],
  );
  useEffect(() => () => bodies.forEach((b) => b.geometry.dispose()), [bodies]);
  const turn = new Quaternion().setFromUnitVectors(new Vector3(0, 1, 0), new Vector3(...axis).normalize());
  return (
    <group position={tip} quaternion={turn}>
      {bodies.map((b, k) => (
        <mesh key={k} geometry={b.geometry}>
          <meshLambertMaterial
            color={COLOURS[b.name]}
            side={DoubleSide}
            transparent
            opacity={b.name === "holder" ? 0.45 : 0.8}
          />
        </mesh>
      ))}
    </group>
  );
}
