/** What a click takes, looked up in the tables that the server worked out. */
import type { Block, Schemas } from "../api/client";
import type { Vec } from "../job/document";
import type { Reach } from "../job/picking";

export type Hit = { face: number; point: Vec };
export type Taken = { faces: number[]; edges: number[] };
type Features = Schemas["Recognition"] | undefined;

const all = (groups: ArrayLike<number>, seed: number): number[] => {
  const wanted = groups[seed];
  if (wanted === undefined || wanted < 0) return [seed];
  const found: number[] = [];
  for (let i = 0; i < groups.length; i++) if (groups[i] === wanted) found.push(i);
  return found;
};

/** Number of the first polyline point of each edge. */
export function edgeStarts(geometry: Block): Uint32Array {
  const counts = geometry.edge_counts as Uint32Array,
    starts = new Uint32Array(counts.length + 1);
  for (let i = 0; i < counts.length; i++) starts[i + 1] = starts[i] + counts[i];
  return starts;
}

/** Edges of each face. */
export function edgesOfFaces(tables: Block): Map<number, number[]> {
  const pairs = tables.edge_faces as Int32Array,
    found = new Map<number, number[]>();
  for (let e = 0; e < pairs.length / 2; e++)
    for (const f of new Set([pairs[2 * e], pairs[2 * e + 1]])) if (f >= 0) found.set(f, [...(found.get(f) ?? []), e]);
  return found;
}

/** The edge of a face that is nearest to a place on it. */
export function nearestEdge(geometry: Block, starts: Uint32Array, edges: number[], p: Vec): number | null {
  const q = geometry.edge_points as Float32Array;
  let best: number | null = null,
    least = Infinity;
  for (const e of edges) {
    for (let i = starts[e]; i + 1 < starts[e + 1]; i++) {
      const a = 3 * i,
        b = a + 3;
      const ux = q[b] - q[a],
        uy = q[b + 1] - q[a + 1],
        uz = q[b + 2] - q[a + 2];
      const wx = p[0] - q[a],
        wy = p[1] - q[a + 1],
        wz = p[2] - q[a + 2];
      const t = Math.max(0, Math.min(1, (wx * ux + wy * uy + wz * uz) / Math.max(ux * ux + uy * uy + uz * uz, 1e-12)));
      const dx = wx - t * ux,
        dy = wy - t * uy,
        dz = wz - t * uz,
        d = dx * dx + dy * dy + dz * dz;
      if (d < least) {
        least = d;
        best = e;
      }
    }
  }
  return best;
}

/** The smallest feature that a face belongs to. */
export function featureOf(features: Features, face: number): { name: string; faces: number[] } | null {
  if (!features) return null;
  const lists = [
    features.holes,
    features.pockets,
    features.bosses,
    features.chamfers,
    features.blends,
    features.outer_profiles,
  ];
  const found = lists
    .flatMap((l) => (l ?? []) as { name: string; faces: number[] }[])
    .filter((f) => f.faces.includes(face));
  return found.sort((a, b) => a.faces.length - b.faces.length)[0] ?? null;
}

/** Faces and edges that a click at a place takes; `extend` runs on along tangents. */
export function taken(
  hit: Hit,
  reach: Reach,
  extend: boolean,
  geometry: Block,
  tables: Block | undefined,
  starts: Uint32Array,
  byFace: Map<number, number[]>,
  features: Features,
): Taken {
  if (!tables) return { faces: [hit.face], edges: [] };
  if (reach === "edge" || reach === "chain" || reach === "boundary") {
    const edge = nearestEdge(geometry, starts, byFace.get(hit.face) ?? [], hit.point);
    if (edge === null) return { faces: [], edges: [] };
    if (reach === "chain" || (reach === "edge" && extend)) return { faces: [], edges: all(tables.chains, edge) };
    if (reach === "edge") return { faces: [], edges: [edge] };
    const counts = tables.loop_counts as Int32Array,
      faces = tables.loop_face as Int32Array,
      edges = tables.loop_edges as Int32Array;
    for (let l = 0, at = 0; l < counts.length; at += counts[l++]) {
      if (faces[l] !== hit.face) continue;
      const loop = Array.from(edges.subarray(at, at + counts[l]));
      if (loop.includes(edge)) return { faces: [], edges: [...new Set(loop)] };
    }
    return { faces: [], edges: [edge] };
  }
  if (reach === "feature") return { faces: featureOf(features, hit.face)?.faces ?? [hit.face], edges: [] };
  if (reach === "face") return { faces: extend ? all(tables.smooth, hit.face) : [hit.face], edges: [] };
  return { faces: all(reach === "smooth" ? tables.smooth : tables[`alike_${reach}`], hit.face), edges: [] };
}
