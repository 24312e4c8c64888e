/** What the server computes for the open job, fetched once for each version. */
import { useQuery } from "@tanstack/react-query";
import { api, fetchBlock, take, type Block, type ProofSummary, type Scene } from "../api/client";
import type { FaceSelector, Vec } from "./document";
import { useJob } from "./useJob";

export type PartFace = { kind: string; area_mm2: number; centroid: Vec; normal: Vec; radius_mm: number | null; reference: FaceSelector };
export type PartInfo = { summary: Record<string, any>; faces: PartFace[]; zero_points: Record<"vertex" | "hole centre", Vec[]> };

const job_id = (id: string) => ({ params: { path: { job_id: id } } });

export function usePart() {
  const { id, doc } = useJob();
  return useQuery({ queryKey: ["part", id, doc.part], enabled: !!doc.part, queryFn: () => take(api.GET("/api/jobs/{job_id}/part", job_id(id))) as unknown as Promise<PartInfo> });
}

export function useGeometry() {
  const { id, doc } = useJob();
  return useQuery<Block>({ queryKey: ["geometry", id, doc.part], enabled: !!doc.part, queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/part/geometry`, signal) });
}

export function useScene(setup: string) {
  const { id, doc } = useJob();
  const own = doc.setups.find((s) => s.id === setup);
  return useQuery<Scene>({ queryKey: ["scene", id, doc.part, own], enabled: !!doc.part && !!own, retry: false, queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/scene", { params: { path: { job_id: id, setup_id: setup } } })) });
}

export function useProof(setup: string) {
  const { id, version, status } = useJob();
  const ready = status?.setups.find((s) => s.id === setup)?.proof === "ready";
  return useQuery<ProofSummary>({ queryKey: ["proof", id, setup, version], enabled: ready, retry: false, queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/proof", { params: { path: { job_id: id, setup_id: setup } } })) as Promise<ProofSummary> });
}

export function useColumns(setup: string) {
  const { id, version, status } = useJob();
  const ready = status?.setups.find((s) => s.id === setup)?.proof === "ready";
  return useQuery<Block>({ queryKey: ["columns", id, setup, version], enabled: ready, retry: false, queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/setups/${setup}/proof/columns`, signal) });
}

export function usePath(number: number, ready: boolean) {
  const { id, version } = useJob();
  return useQuery<Block>({ queryKey: ["path", id, number, version], enabled: ready, retry: false, queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/operations/${number}/path`, signal) });
}

export function usePrograms(setup: string) {
  const { id, version, status } = useJob();
  const ready = status?.setups.find((s) => s.id === setup)?.program === "ready";
  return useQuery({ queryKey: ["programs", id, setup, version], enabled: ready, retry: false, queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/programs", { params: { path: { job_id: id, setup_id: setup } } })) });
}
