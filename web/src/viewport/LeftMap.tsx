import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { BufferAttribute, BufferGeometry, Points, PointsMaterial } from "three";
import type { Block } from "../api/client";
import { useLeftPlaces } from "../job/queries";
import { LEFT_STATES } from "../theme";

/** Dots on the part: what the rows finish, what they leave, what no setup sees. */
export function LeftDots() {
  const places = useLeftPlaces();
  const { invalidate } = useThree();
  const dots = useMemo(() => (places.data ? dotsOf(places.data) : []), [places.data]);
  useEffect(() => {
    invalidate();
    return () =>
      dots.forEach((d) => {
        d.geometry.dispose();
        (d.material as PointsMaterial).dispose();
      });
  }, [dots, invalidate]);
  return (
    <group>
      {dots.map((d, k) => (
        <primitive key={k} object={d} />
      ))}
    </group>
  );
}

function dotsOf(block: Block): Points[] {
  const places = block.places as Float32Array,
    state = block.state as Uint8Array;
  return LEFT_STATES.map(({ colour, size }, k) => {
    const own = Array.from(state.keys()).filter((i) => state[i] === k);
    const at = new Float32Array(own.flatMap((i) => [places[3 * i], places[3 * i + 1], places[3 * i + 2]]));
    const geometry = new BufferGeometry().setAttribute("position", new BufferAttribute(at, 3));
    const dots = new Points(geometry, new PointsMaterial({ color: colour, size, sizeAttenuation: false }));
    dots.raycast = () => {}; // clicks go to the faces under them
    return dots;
  });
}

/** What the dots say, and how thick what is left stands. */
export function LeftLegend() {
  const places = useLeftPlaces();
  if (places.error) return <div className="legend fault">{places.error.message}</div>;
  if (!places.data) return <div className="legend">Looking at the surface …</div>;
  const { measured, most_mm } = places.data.meta as { measured: boolean; most_mm: number };
  const there = new Set(places.data.state as Uint8Array);
  return (
    <div className="legend" aria-label="What is left on the part">
      <span>{measured ? "As cut:" : "As the rows will leave it:"}</span>
      {LEFT_STATES.map((s, k) =>
        there.has(k) ? (
          <span key={s.name}>
            <i className="dot" style={{ background: s.colour }} />
            {s.name}
            {k === 1 && measured ? `, up to ${most_mm.toFixed(2)} mm` : ""}
          </span>
        ) : null,
      )}
    </div>
  );
}
