import { useMemo } from "react";
import { DoubleSide, LatheGeometry, Quaternion, Vector2, Vector3 } from "three";
import type { AnyOf, Fields, Cutter, Tool, Vec } from "../job/document";

type Body = { name: "cutter" | "neck" | "shank" | "holder"; points: [number, number][] };

/** The contour of a cutter as places (radius, height); the server's is exact, this one draws while numbers are typed. */
function cutterPlaces(c: Cutter): [number, number][] {
  const R = c.diameter_mm / 2,
    L = c.flute_length_mm,
    fields = c as Fields,
    n = (k: string, d = 0) => (typeof fields[k] === "number" ? (fields[k] as number) : d);
  const cone = (tip: number, angle: number): [number, number][] => {
    const rise = (R - tip / 2) / Math.tan((angle * Math.PI) / 360);
    return [
      [0, 0],
      [tip / 2, 0],
      [R, rise],
      [R, Math.max(L, rise)],
    ];
  };
  const arc = (x: number, z: number, r: number, from: number, to: number): [number, number][] =>
    Array.from({ length: 13 }, (_, k) => {
      const a = ((from + ((to - from) * k) / 12) * Math.PI) / 180;
      return [x + r * Math.cos(a), z + r * Math.sin(a)];
    });
  switch (c.kind) {
    case "drill":
      return cone(0, n("point_deg", 118));
    case "spot drill":
      return cone(0, n("point_deg", 90));
    case "chamfer mill":
      return cone(n("tip_diameter_mm"), n("included_deg", 90));
    case "engraving":
      return cone(n("tip_diameter_mm"), n("included_deg", 30));
    case "face mill":
      return [
        [0, 0],
        [R - L / Math.tan((n("lead_deg", 90) * Math.PI) / 180), 0],
        [R, L],
      ];
    case "dovetail":
      return [
        [0, 0],
        [R, 0],
        [R - L / Math.tan((n("angle_deg", 60) * Math.PI) / 180), L],
      ];
    case "lollipop": {
      const k = n("neck_diameter_mm") / 2,
        top = Math.asin(Math.min(Math.sqrt(Math.max(R * R - k * k, 0)) / R, 1)) * (180 / Math.PI);
      return [...arc(0, R, R, -90, top), [k, L]];
    }
    case "slotting cutter":
      return [
        [0, 0],
        [R, 0],
        [R, L],
        [n("neck_diameter_mm") / 2, L],
      ];
    case "back boring bar":
      return [
        [0, 0],
        [R, 0],
        [R, L],
        [n("bar_diameter_mm") / 2, L],
      ];
    case "centre drill": {
      const p = n("pilot_diameter_mm") / 2,
        l = n("pilot_length_mm"),
        top = l + (R - p) / Math.tan((n("included_deg", 60) * Math.PI) / 360);
      return [
        [0, 0],
        [p, p / Math.tan((59 * Math.PI) / 180)],
        [p, l],
        [R, top],
        [R, Math.max(L, top)],
      ];
    }
    case "reamer":
      return [
        [0, 0],
        [R - n("lead_mm"), 0],
        [R, n("lead_mm")],
        [R, L],
      ];
    case "tap": {
      const p = n("pitch_mm");
      return [
        [0, 0],
        [R - 0.613 * p, 0],
        [R, n("lead_threads", 2.5) * p],
        [R, L],
      ];
    }
    case "thread mill": {
      const p = n("pitch_mm"),
        t = Math.min(0.54 * p, 0.45 * R),
        rows = c.teeth === "single" ? 1 : Math.max(Math.floor(L / p), 1),
        out: [number, number][] = [[0, 0]];
      for (let k = 0; k < rows; k++)
        out.push([R - t, k * p], [R, k * p + 0.3 * p], [R, k * p + 0.45 * p], [R - t, k * p + 0.75 * p]);
      return [...out, [R - t, L]];
    }
    case "tapered": {
      const r = n("corner_radius_mm"),
        a = (n("taper_deg", 3) * Math.PI) / 180,
        x = R - r + r * Math.cos(a),
        z = r * (1 - Math.sin(a));
      return [[0, 0], ...arc(R - r, r, r, -90, -n("taper_deg", 3)), [x, z], [x + (L - z) * Math.tan(a), L]];
    }
    case "barrel": {
      const F = n("flank_radius_mm"),
        z0 = n("widest_at_mm"),
        r = n("corner_radius_mm"),
        x = R - F + Math.sqrt(Math.max((F - r) ** 2 - (z0 - r) ** 2, 0)),
        to = (Math.asin(Math.max(Math.min((r - z0) / (F - r), 1), -1)) * 180) / Math.PI;
      return [
        [0, 0],
        ...arc(x, r, r, -90, to),
        ...arc(R - F, z0, F, to, (Math.asin(Math.min((L - z0) / F, 1)) * 180) / Math.PI),
      ];
    }
    case "own contour":
      return (c.places as [number, number, number][]).map(([r, z]) => [r, z]);
    default: {
      const r = c.kind === "ball" ? R : Math.min(n("corner_radius_mm"), R);
      return [[0, 0], ...arc(R - r, r, r, -90, 0), [R, L]];
    }
  }
}

/** Contours (radius, height) of a tool's bodies, from the numbers as they stand; each is closed on the axis. */
export function contours(tool: Tool): Body[] {
  const c = tool.cutter,
    places = cutterPlaces(c),
    out: Body[] = [{ name: "cutter", points: [...places, [0, places[places.length - 1][1]]] }];
  let at = c.flute_length_mm;
  const piece = (name: Body["name"], d: number, to: number) => {
    if (to > at)
      out.push({
        name,
        points: [
          [0, at],
          [d / 2, at],
          [d / 2, to],
          [0, to],
        ],
      });
    at = Math.max(at, to);
  };
  if (tool.neck_length_mm > 0) piece("neck", tool.neck_diameter_mm ?? c.diameter_mm, at + tool.neck_length_mm);
  piece("shank", tool.shank_diameter_mm ?? (c as AnyOf<Cutter>).bar_diameter_mm ?? c.diameter_mm, tool.stick_out_mm);
  let z = tool.stick_out_mm;
  for (const h of tool.holder) {
    out.push({
      name: "holder",
      points: [
        [0, z],
        [h.lower_diameter_mm / 2, z],
        [h.upper_diameter_mm / 2, z + h.height_mm],
        [0, z + h.height_mm],
      ],
    });
    z += h.height_mm;
  }
  return out;
}

const COLOURS = { cutter: "#c9b26a", neck: "#a9aeb3", shank: "#9aa0a6", holder: "#6b7278" };

/** The tool as a solid of revolution, its tip at a place, its axis along a direction. */
export function ToolBody({ tool, tip, axis }: { tool: Tool; tip: Vec; axis: Vec }) {
  const bodies = useMemo(
    () =>
      contours(tool).map((b) => ({
        name: b.name,
        geometry: new LatheGeometry(
          b.points.map(([x, y]) => new Vector2(x, y)),
          40,
        ),
      })),
    [tool],
  );
  const turn = useMemo(
    () => new Quaternion().setFromUnitVectors(new Vector3(0, 1, 0), new Vector3(...axis).normalize()),
    [axis],
  );
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
