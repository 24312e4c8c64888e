import type { Schemas } from "../../api/client";
import type { Vec } from "../../job/document";
import { f } from "./references";

export type Row = {
  name: string;
  what: string;
  size: string;
  depth: string;
  note: string;
  faces: number[];
  direction: Vec | null | undefined;
  accessible: boolean | null | undefined;
  why: string;
};

export const LOOKS: Record<string, Vec | null> = {
  all: null,
  "+Z": [0, 0, 1],
  "−Z": [0, 0, -1],
  "+X": [1, 0, 0],
  "−X": [-1, 0, 0],
  "+Y": [0, 1, 0],
  "−Y": [0, -1, 0],
};

/** Features as rows; alike holes stand in one row. */
export function rowsOf(r: Schemas["Recognition"]): Row[] {
  const rows: Row[] = [];
  const groups = new Map<number, NonNullable<Schemas["Recognition"]["holes"]>>();
  for (const h of r.holes ?? []) groups.set(h.group ?? 0, [...(groups.get(h.group ?? 0) ?? []), h]);
  for (const holes of groups.values()) {
    const h = holes[0],
      extra = h.steps
        .filter((s) => s.kind !== "bore")
        .map((s) =>
          s.kind === "drill point"
            ? `point ${f(s.angle_deg ?? 0, 0)}°`
            : s.kind === "flat bottom"
              ? "flat bottom"
              : `${s.kind} ⌀${f(s.diameter_mm)}${s.angle_deg ? ` ${f(s.angle_deg, 0)}°` : ` × ${f(s.depth_mm)}`}`,
        );
    const blocked = holes.find((x) => !x.accessible);
    rows.push({
      name: holes.length > 1 ? `${holes.length} holes` : h.name,
      what: h.through ? "through hole" : "blind hole",
      size: `⌀${f(h.diameter_mm, 3)}`,
      depth: f(h.depth_mm),
      note: [...extra, ...(h.threads?.length ? [`tap drill of ${h.threads.join(", ")}`] : [])].join(" · "),
      faces: holes.flatMap((x) => x.faces),
      direction: h.direction as Vec,
      accessible: !blocked,
      why: blocked?.why ?? "",
    });
  }
  for (const p of r.pockets ?? [])
    rows.push({
      name: p.name,
      what: p.kind,
      size: `${f(p.length_mm)} × ${f(p.width_mm)}`,
      depth: f(p.depth_mm),
      note: [
        p.parent && `in ${p.parent}`,
        p.islands?.length && `${p.islands.length} island${p.islands.length > 1 ? "s" : ""}`,
        p.corner_radii_mm?.length && `corners R ${p.corner_radii_mm.map((v) => f(v)).join(", ")}`,
        p.floor_radius_mm && `floor R ${f(p.floor_radius_mm)}`,
        p.draft_deg && `draft ${f(p.draft_deg)}°`,
      ]
        .filter(Boolean)
        .join(" · "),
      faces: p.faces,
      direction: p.direction as Vec,
      accessible: p.accessible,
      why: p.why ?? "",
    });
  for (const b of r.bosses ?? [])
    rows.push({
      name: b.name,
      what: b.round ? "round boss" : "boss",
      size: b.round ? `⌀${f(b.length_mm)}` : `${f(b.length_mm)} × ${f(b.width_mm)}`,
      depth: f(b.height_mm),
      note: b.island_of ? `island of ${b.island_of}` : "",
      faces: b.faces,
      direction: b.direction as Vec,
      accessible: b.accessible,
      why: "",
    });
  for (const c of r.chamfers ?? [])
    rows.push({
      name: c.name,
      what: "chamfer",
      size: `${f(c.width_mm)} × ${f(c.angle_deg, 0)}°`,
      depth: "",
      note: `${f(c.length_mm)} mm long`,
      faces: c.faces,
      direction: null,
      accessible: null,
      why: "",
    });
  const blends = new Map<string, NonNullable<Schemas["Recognition"]["blends"]>>();
  for (const b of r.blends ?? []) {
    const k = `${b.concave} ${b.radius_mm.toFixed(3)}`;
    blends.set(k, [...(blends.get(k) ?? []), b]);
  }
  for (const list of blends.values())
    rows.push({
      name: list.length > 1 ? `${list.length} fillets` : list[0].name,
      what: list[0].concave ? "inner fillet" : "rounded edge",
      size: `R ${f(list[0].radius_mm, 3)}`,
      depth: "",
      note: `${f(list.reduce((a, b) => a + b.length_mm, 0))} mm long`,
      faces: list.flatMap((b) => b.faces),
      direction: null,
      accessible: null,
      why: "",
    });
  for (const a of r.flat_areas ?? [])
    rows.push({
      name: a.name,
      what: "flat area",
      size: `${f(a.area_mm2)} mm²`,
      depth: "",
      note: `level ${f(a.level_mm)}`,
      faces: a.faces,
      direction: a.direction as Vec,
      accessible: null,
      why: "",
    });
  for (const o of r.outer_profiles ?? [])
    rows.push({
      name: o.name,
      what: "outer profile",
      size: `${f(o.length_mm)} along it`,
      depth: f(o.height_mm),
      note: "",
      faces: o.faces,
      direction: o.direction as Vec,
      accessible: null,
      why: "",
    });
  for (const d of r.draft_walls ?? [])
    rows.push({
      name: d.name,
      what: "walls with draft",
      size: `${f(d.draft_deg)}°`,
      depth: "",
      note: "",
      faces: d.faces,
      direction: d.direction as Vec,
      accessible: d.accessible,
      why: d.why ?? "",
    });
  for (const u of r.undercuts ?? [])
    rows.push({
      name: u.name,
      what: "undercut",
      size: `${f(u.area_mm2)} mm²`,
      depth: "",
      note: "",
      faces: u.faces,
      direction: u.direction as Vec,
      accessible: false,
      why: u.why ?? "",
    });
  return rows;
}

export const arrow = (d: Vec | null | undefined) => {
  if (!d) return "";
  const k = d.findIndex((v) => Math.abs(Math.abs(v) - 1) < 1e-6);
  return k >= 0 ? `${d[k] > 0 ? "+" : "−"}${"XYZ"[k]}` : d.map((v) => f(v, 2)).join(", ");
};
