/** The part as it is shown: without the bodies that are left out, each body by its role. */
import { useMemo } from "react";
import { useGeometry, usePart } from "../job/queries";

export function useShownPart() {
  const geometry = useGeometry();
  const part = usePart();
  const roles = useMemo(
    () => (part.data ? (face: number) => part.data!.roles[part.data!.faces[face]?.body ?? 0] ?? "part" : undefined),
    [part.data],
  );
  const hidden = useMemo(
    () => part.data?.roles.map((r, k) => (r === "left out" ? k : -1)).filter((k) => k >= 0) ?? [],
    [part.data],
  );
  const shown = useMemo(
    () =>
      geometry.data && part.data && hidden.length
        ? withoutBodies(
            geometry.data,
            part.data.faces.map((f) => f.body),
            hidden,
          )
        : geometry.data,
    [geometry.data, part.data, hidden],
  );
  return { shown, roles };
}

/** A model without some of its bodies. */
function withoutBodies(block: NonNullable<ReturnType<typeof useGeometry>["data"]>, bodyOf: number[], hidden: number[]) {
  const ids = block.face_ids as Uint32Array,
    corners = block.triangles as Uint32Array,
    kept: number[] = [],
    faces: number[] = [];
  for (let t = 0; t < ids.length; t++)
    if (!hidden.includes(bodyOf[ids[t]])) {
      kept.push(corners[3 * t], corners[3 * t + 1], corners[3 * t + 2]);
      faces.push(ids[t]);
    }
  return { ...block, triangles: new Uint32Array(kept), face_ids: new Uint32Array(faces) };
}
