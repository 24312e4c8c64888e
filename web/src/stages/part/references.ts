import { api, take } from "../../api/client";
import type { Selector } from "../../job/document";

export const f = (v: number, d = 2) => v.toLocaleString("en", { maximumFractionDigits: d }).replace(/,/g, " ");

/** References to what is picked. */
export async function referencesTo(id: string, faces: number[], edges: number[]): Promise<Selector[]> {
  const r = await take(
    api.POST("/api/jobs/{job_id}/part/references", { params: { path: { job_id: id } }, body: { faces, edges } }),
  );
  return [...r.faces, ...r.edges] as never;
}
