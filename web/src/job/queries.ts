/** What the server computes for the open job, fetched once for each key of what it is made from. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, fetchBlock, take, type Block, type ProofSummary, type Scene, type Schemas } from "../api/client";
import type { FaceReference, Tool, Vec } from "./document";
import { useJob, useStanding } from "./useJob";
import { useView } from "./view";

export type PartFace = {
  kind: string;
  area_mm2: number;
  centroid: Vec;
  normal: Vec;
  radius_mm: number | null;
  body: number;
  colour: string;
  reference: FaceReference;
};
export type PartInfo = {
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  summary: Record<string, any>;
  faces: PartFace[];
  zero_points: Record<"vertex" | "hole centre", Vec[]>;
  roles: string[];
};

const job_id = (id: string) => ({ params: { path: { job_id: id } } });

export function usePart() {
  const { id, doc } = useJob();
  return useQuery({
    queryKey: ["part", id, doc.part],
    enabled: !!doc.part,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/part", job_id(id))) as unknown as Promise<PartInfo>,
  });
}

export function useGeometry() {
  const { id, doc } = useJob();
  return useQuery<Block>({
    queryKey: ["geometry", id, doc.part],
    enabled: !!doc.part,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/part/geometry`, signal),
  });
}

export function useScene(setup: string) {
  const { id, doc, version } = useJob();
  const own = doc.setups.find((s) => s.id === setup);
  return useQuery<Scene>({
    queryKey: ["scene", id, setup, version],
    enabled: !!doc.part && !!own,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/setups/{setup_id}/scene", { params: { path: { job_id: id, setup_id: setup } } }),
      ) as unknown as Promise<Scene>,
  });
}

/** What is ready of a setup; its keys change exactly when proof and programs do, and so do the queries that hold them. */
function useMade(setup: string) {
  const { status } = useStanding();
  const made = status?.setups.find((s) => s.id === setup);
  return {
    proof: made?.proof === "ready" ? made.proof_key : "",
    program: made?.program === "ready" ? made.program_key : "",
  };
}

/** The key of a setup's proof; empty where it is not ready. */
export function useProofKey(setup: string): string {
  return useMade(setup).proof;
}

export function useProof(setup: string) {
  const { id } = useJob();
  const key = useProofKey(setup);
  return useQuery<ProofSummary>({
    queryKey: ["proof", id, setup, key],
    enabled: !!key,
    retry: false,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/setups/{setup_id}/proof", { params: { path: { job_id: id, setup_id: setup } } }),
      ) as Promise<ProofSummary>,
  });
}

export function useColumns(setup: string) {
  const { id } = useJob();
  const key = useProofKey(setup);
  return useQuery<Block>({
    queryKey: ["columns", id, setup, key],
    enabled: !!key,
    retry: false,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/setups/${setup}/proof/columns`, signal),
  });
}

export function usePath(number: number) {
  const { id } = useJob();
  const { status } = useStanding();
  const made = status?.operations.find((o) => o.number === number);
  const key = made?.state === "ready" ? made.path_key : "";
  return useQuery<Block>({
    queryKey: ["path", id, number, key],
    enabled: !!key,
    retry: false,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/operations/${number}/path`, signal),
  });
}

/** The bodies of a tool as its numbers stand, kept or not; while they make no tool, those of the last that did. */
export function useOutline(tool: Tool) {
  const { cutter, holder, stick_out_mm, neck_length_mm, neck_diameter_mm, shank_diameter_mm } = tool;
  return useQuery({
    queryKey: ["outline", cutter, holder, stick_out_mm, neck_length_mm, neck_diameter_mm, shank_diameter_mm],
    retry: false,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
    queryFn: () => take(api.POST("/api/tools/outline", { body: tool as never })),
  });
}

/** What the job's load proposes for a tool, where the job has a material. */
export function useSpeeds(tool: number, on: boolean) {
  const { id, doc, version } = useJob();
  const { setup } = useView();
  return useQuery({
    queryKey: ["speeds", id, tool, setup, version],
    enabled: on && !!doc.material,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/{number}/speeds", {
          params: { path: { job_id: id, number: tool }, query: { setup } },
        }),
      ),
  });
}

/** The heights of an operation that can be dragged. */
export function useHeights(number: number) {
  const { id, version } = useJob();
  return useQuery({
    queryKey: ["heights", id, number, version],
    retry: false,
    placeholderData: (before) => before,
    queryFn: () =>
      take(api.GET("/api/jobs/{job_id}/operations/{number}/heights", { params: { path: { job_id: id, number } } })),
  });
}

export function usePrograms(setup: string) {
  const { id } = useJob();
  const key = useMade(setup).program;
  return useQuery({
    queryKey: ["programs", id, setup, key],
    enabled: !!key,
    retry: false,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/setups/{setup_id}/programs", { params: { path: { job_id: id, setup_id: setup } } }),
      ),
  });
}

/** What a click takes: chains, loops, likeness, as group numbers for each face and edge. */
export function usePickTables() {
  const { id, doc } = useJob();
  return useQuery<Block>({
    queryKey: ["picking", id, doc.part?.file, doc.part?.scale],
    enabled: !!doc.part,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/part/picking`, signal),
  });
}

/** The features of the part, for all directions or one. */
export function useFeatures(look: Vec | null = null) {
  const { id, doc } = useJob();
  const query = look ? { x: look[0], y: look[1], z: look[2] } : {};
  return useQuery<Schemas["Recognition"]>({
    queryKey: ["features", id, doc.part, look],
    enabled: !!doc.part,
    retry: false,
    queryFn: () =>
      take(api.GET("/api/jobs/{job_id}/part/features", { params: { path: { job_id: id }, query } })) as Promise<
        Schemas["Recognition"]
      >,
  });
}

export function useMeasurements() {
  const { id, doc, version } = useJob();
  return useQuery({
    queryKey: ["measurements", id, version],
    enabled: doc.measurements.length > 0,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/measurements", job_id(id))),
  });
}

export function useCurves(sketch: string) {
  const { id, version } = useJob();
  return useQuery<Block>({
    queryKey: ["curves", id, sketch, version],
    enabled: !!sketch,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/sketches/${sketch}/curves`, signal),
  });
}

export function useFirstStock(setup: string) {
  const { id, doc, version } = useJob();
  const there = !!doc.part && doc.setups.some((s) => s.id === setup);
  return useQuery<Block>({
    queryKey: ["first stock", id, setup, version],
    enabled: there,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/setups/${setup}/stock`, signal),
  });
}

export function useFixtureGeometry(setup: string, fixture: string) {
  const { id, version } = useJob();
  return useQuery<Block>({
    queryKey: ["fixture", id, setup, fixture, version],
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/setups/${setup}/fixtures/${fixture}/geometry`, signal),
  });
}

export function useTables() {
  return useQuery({ queryKey: ["tables"], staleTime: Infinity, queryFn: () => take(api.GET("/api/library/tables")) });
}

/** Features that no operation makes. */
export function useCoverage() {
  const { id, doc, version } = useJob();
  return useQuery({
    queryKey: ["coverage", id, version],
    enabled: !!doc.part,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/coverage", job_id(id))),
  });
}

/** Places of the part with what the rows leave on each. */
export function useLeftPlaces() {
  const { id, doc, version } = useJob();
  const { status } = useStanding();
  return useQuery<Block>({
    queryKey: ["left places", id, version, status?.finished ?? null],
    enabled: !!doc.part && doc.setups.length > 0,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/left-over/places`, signal),
  });
}

/** How much of the surface is finished, and what is left of which face. */
export function useFinish() {
  const { id, doc, version } = useJob();
  const { status } = useStanding();
  return useQuery({
    queryKey: ["finish", id, version, status?.finished ?? null],
    enabled: !!doc.part && doc.setups.length > 0,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/finish", job_id(id))),
  });
}

/** The bodies and joints of a setup's machine. */
export function useMachine(setup: string) {
  const { id, doc, version } = useJob();
  const own = doc.setups.find((s) => s.id === setup);
  return useQuery<Block>({
    queryKey: ["machine", id, setup, version],
    enabled: !!doc.part && !!own?.machine,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/setups/${setup}/machine`, signal),
  });
}

/** The key of an arm's way along a row; empty where it is not solved. */
export function useWayKey(number: number | null): string {
  const { status } = useStanding();
  const made = status?.operations.find((o) => o.number === number);
  return made?.way === "ready" ? made.way_key : "";
}

export function useArmWay(number: number | null) {
  const { id } = useJob();
  const key = useWayKey(number);
  return useQuery<Block>({
    queryKey: ["arm way", id, number, key],
    enabled: !!key,
    retry: false,
    queryFn: ({ signal }) => fetchBlock(`/api/jobs/${id}/operations/${number}/arm`, signal),
  });
}

/** How much of a row is reached at values of the axes round an arm; asked for where its path is ready. */
export function useReach(number: number | null, on: boolean) {
  const { id, version } = useJob();
  return useQuery({
    queryKey: ["reach", id, number, version],
    enabled: on && number !== null,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/operations/{number}/reach", {
          params: { path: { job_id: id, number: number! } },
        }),
      ),
  });
}
