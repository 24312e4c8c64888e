import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { BufferAttribute, BufferGeometry, LineBasicMaterial, LineDashedMaterial, LineSegments } from "three";
import type { Block } from "../api/client";
import { KINDS } from "../theme";

/** A toolpath, its kinds of motion told apart by colour and dash. */
export function PathLines({ block }: { block: Block }) {
  const { invalidate } = useThree();
  const lines = useMemo(() => {
    const points = block.points as Float32Array,
      kinds = block.kinds as Uint8Array;
    return KINDS.map((kind, k) => {
      let n = 0;
      for (let i = 1; i < kinds.length; i++) if (kinds[i] === k) n++;
      const out = new Float32Array(n * 6);
      n = 0;
      for (let i = 1; i < kinds.length; i++)
        if (kinds[i] === k) out.set(points.subarray(3 * i - 3, 3 * i + 3), 6 * n++);
      const geometry = new BufferGeometry().setAttribute("position", new BufferAttribute(out, 3));
      const material = kind.dash
        ? new LineDashedMaterial({ color: kind.colour, dashSize: 2, gapSize: 1.5 })
        : new LineBasicMaterial({ color: kind.colour });
      const object = new LineSegments(geometry, material);
      if (kind.dash) object.computeLineDistances();
      return object;
    });
  }, [block]);
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
