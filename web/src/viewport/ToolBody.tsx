import { useMemo } from "react";
import { DoubleSide, LatheGeometry, Quaternion, Vector2, Vector3 } from "three";
import type { Tool, Vec } from "../job/document";

/** Contours (radius, height) of a tool's bodies, from the numbers as they stand. */
export function contours(tool: Tool): { name: "cutter" | "shank" | "holder"; points: [number, number][] }[] {
  const c = tool.cutter, R = c.diameter_mm / 2;
  const r = c.kind === "ball" ? R : c.kind === "bull-nose" ? Math.min(c.corner_radius_mm ?? 0, R) : 0;
  const cutter: [number, number][] = [[0, 0]];
  for (let k = 0; k <= 12; k++) cutter.push([R - r + r * Math.sin((k / 12) * (Math.PI / 2)), r - r * Math.cos((k / 12) * (Math.PI / 2))]);
  cutter.push([R, c.flute_length_mm], [0, c.flute_length_mm]);
  const out: ReturnType<typeof contours> = [{ name: "cutter", points: cutter }];
  const s = (tool.shank_diameter_mm ?? c.diameter_mm) / 2;
  if (tool.stick_out_mm > c.flute_length_mm) out.push({ name: "shank", points: [[0, c.flute_length_mm], [s, c.flute_length_mm], [s, tool.stick_out_mm], [0, tool.stick_out_mm]] });
  let z = tool.stick_out_mm;
  for (const h of tool.holder) {
    out.push({ name: "holder", points: [[0, z], [h.lower_diameter_mm / 2, z], [h.upper_diameter_mm / 2, z + h.height_mm], [0, z + h.height_mm]] });
    z += h.height_mm;
  }
  return out;
}

const COLOURS = { cutter: "#c9b26a", shank: "#9aa0a6", holder: "#6b7278" };

/** The tool as a solid of revolution, its tip at a place, its axis along a direction. */
export function ToolBody({ tool, tip, axis }: { tool: Tool; tip: Vec; axis: Vec }) {
  const bodies = useMemo(() => contours(tool).map((b) => ({ name: b.name, geometry: new LatheGeometry(b.points.map(([x, y]) => new Vector2(x, y)), 40) })), [tool]);
  const turn = useMemo(() => new Quaternion().setFromUnitVectors(new Vector3(0, 1, 0), new Vector3(...axis).normalize()), [axis]);
  return (
    <group position={tip} quaternion={turn}>
      {bodies.map((b, k) => (
        <mesh key={k} geometry={b.geometry}>
          <meshStandardMaterial color={COLOURS[b.name]} roughness={0.4} metalness={0.4} side={DoubleSide} transparent opacity={b.name === "holder" ? 0.45 : 0.8} />
        </mesh>
      ))}
    </group>
  );
}
