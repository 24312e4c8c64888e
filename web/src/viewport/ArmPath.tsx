import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { BufferAttribute, BufferGeometry, Color, Line, LineBasicMaterial } from "three";
import type { Block } from "../api/client";
import type { Vec } from "../job/document";
import { useMoving, type Paint } from "../job/moving";
import { useArmWay } from "../job/queries";

/** What a path can be coloured by: the column, and the values from bad to good. */
export const PAINTS: Record<
  Exclude<Paint, "plain">,
  { name: string; column: string; low: number; high: number; unit: string }
> = {
  singular: { name: "from singular", column: "singular", low: 0.03, high: 0.3, unit: "" },
  room: { name: "from the joints' ends", column: "room", low: 0, high: 0.5, unit: "of half the range" },
  clearance: { name: "clearance", column: "clearance", low: 0, high: 60, unit: "mm" },
};
/** From fault over attention to good; the ends differ in lightness, too. */
export const STEPS = ["#7c1f36", "#b7791f", "#c9b26a", "#5da394", "#1f7a6d"];
const PLAIN = "#6d2f6b";

const colourAt = (value: number, low: number, high: number): string =>
  STEPS[Math.max(0, Math.min(STEPS.length - 1, Math.floor(((value - low) / (high - low)) * STEPS.length)))];

/** The path that an arm goes, coloured by how it stands there, and the places that it does not reach. */
export function ArmPath({ number }: { number: number }) {
  const way = useArmWay(number).data;
  const { paint } = useMoving();
  const { invalidate } = useThree();
  const line = useMemo(() => (way ? drawn(way, paint) : null), [way, paint]);
  useEffect(() => {
    invalidate();
    return () => {
      line?.geometry.dispose();
      (line?.material as LineBasicMaterial | undefined)?.dispose();
    };
  }, [line, invalidate]);
  return (
    <>
      {line && <primitive object={line} />}
      {(way?.meta.places ?? []).map((p: { in_part: Vec }, k: number) => (
        <mesh key={k} position={p.in_part}>
          <octahedronGeometry args={[8]} />
          <meshBasicMaterial color="#a8324a" depthTest={false} />
        </mesh>
      ))}
    </>
  );
}

function drawn(way: Block, paint: Paint): Line {
  const points = way.points as Float32Array,
    n = points.length / 3,
    colours = new Float32Array(3 * n);
  const own = paint === "plain" ? null : PAINTS[paint];
  const table = new Map<string, Color>();
  for (let i = 0; i < n; i++) {
    const name = own ? colourAt((way[own.column] as Float32Array)[i], own.low, own.high) : PLAIN;
    if (!table.has(name)) table.set(name, new Color(name));
    table.get(name)!.toArray(colours, 3 * i);
  }
  const geometry = new BufferGeometry()
    .setAttribute("position", new BufferAttribute(points, 3))
    .setAttribute("color", new BufferAttribute(colours, 3));
  return new Line(geometry, new LineBasicMaterial({ vertexColors: true }));
}
