/** What a click takes, and where it goes: to the picks, or to those who wait for a click. */
import { useCallback, useMemo } from "react";
import { PART, giveClick, pick, usePicks, type Purpose, type Reach } from "../job/picking";
import { useFeatures, useGeometry, usePickTables } from "../job/queries";
import { edgesOfFaces, edgeStarts, taken, type Hit } from "./taking";

const REACH_FOR: Partial<Record<Purpose, Reach>> = {
  "up edge": "edge",
  "x along": "edge",
  "sketch edges": "edge",
  "up hole": "feature",
  up: "face",
  seat: "face",
};

const merged = (had: number[], more: number[]) =>
  more.every((f) => had.includes(f)) ? had.filter((f) => !more.includes(f)) : [...new Set([...had, ...more])];

const same = (a: number[], b: number[]) => a.length === b.length && b.every((f) => a.includes(f));

export function useTaking() {
  const picks = usePicks();
  const geometry = useGeometry();
  const tables = usePickTables();
  const features = useFeatures();
  const lookup = useMemo(
    () =>
      geometry.data && tables.data ? { starts: edgeStarts(geometry.data), byFace: edgesOfFaces(tables.data) } : null,
    [geometry.data, tables.data],
  );
  const reach = REACH_FOR[picks.purpose] ?? picks.reach;
  const takes = useCallback(
    (hit: Hit, extend: boolean) =>
      geometry.data && lookup
        ? taken(hit, reach, extend, geometry.data, tables.data, lookup.starts, lookup.byFace, features.data)
        : { faces: [hit.face], edges: [] },
    [geometry.data, lookup, reach, tables.data, features.data],
  );
  const take = useCallback(
    (hit: Hit, add: boolean, extend: boolean) => {
      const t = takes(hit, extend);
      if (picks.purpose === "seat" || picks.purpose === "up points") return giveClick({ ...hit, on: PART });
      const again = !add && !picks.purpose && same(picks.faces, t.faces) && same(picks.edges, t.edges);
      if (again) return pick({ faces: [], edges: [], place: null });
      pick({
        faces: add ? merged(picks.faces, t.faces) : t.faces,
        edges: add ? merged(picks.edges, t.edges) : t.edges,
        place: hit.point,
      });
    },
    [takes, picks],
  );
  return { reach, takes, take };
}
