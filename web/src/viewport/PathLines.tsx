import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { BufferAttribute, BufferGeometry, LineBasicMaterial, LineDashedMaterial, LineSegments } from "three";
import type { Block } from "../api/client";
import type { LoadName } from "../job/view";
import { KINDS, loadColour } from "../theme";
import { topOf } from "./loads";

const CUT = 3;

/** A toolpath, its kinds of motion told apart by colour and dash; its cuts by a load where that is asked for. */
export function PathLines({ block, by }: { block: Block; by?: LoadName | "" }) {
  const { invalidate } = useThree();
  const lines = useMemo(() => {
    const points = block.points as Float32Array,
      kinds = block.kinds as Uint8Array;
    const top = by ? topOf(block, by) : 1;
    return KINDS.map((kind, k) => {
      let n = 0;
      for (let i = 1; i < kinds.length; i++) if (kinds[i] === k) n++;
      const out = new Float32Array(n * 6),
        painted = by && k === CUT ? new Float32Array(n * 6) : null;
      n = 0;
      for (let i = 1; i < kinds.length; i++)
        if (kinds[i] === k) {
          if (painted) {
            const colour = loadColour((block[by as LoadName][i] as number) / top);
            painted.set(colour, 6 * n);
            painted.set(colour, 6 * n + 3);
          }
          out.set(points.subarray(3 * i - 3, 3 * i + 3), 6 * n++);
        }
      const geometry = new BufferGeometry().setAttribute("position", new BufferAttribute(out, 3));
      if (painted) geometry.setAttribute("color", new BufferAttribute(painted, 3));
      const quiet = by && k !== CUT ? { transparent: true, opacity: 0.35 } : {};
      const material = painted
        ? new LineBasicMaterial({ vertexColors: true })
        : kind.dash
          ? new LineDashedMaterial({ color: kind.colour, dashSize: 2, gapSize: 1.5, ...quiet })
          : new LineBasicMaterial({ color: kind.colour, ...quiet });
      const object = new LineSegments(geometry, material);
      if (kind.dash) object.computeLineDistances();
      return object;
    });
  }, [block, by]);
  useEffect(() => {
    performance.mark("fenrik path");
    invalidate();
    return () =>
      lines.forEach((l) => {
        l.geometry.dispose();
        (l.material as LineBasicMaterial).dispose();
      });
  }, [lines, invalidate]);
  return (
    <group>
      {lines.map((l, k) => (
        <primitive key={k} object={l} />
      ))}
    </group>
  );
}
