/** The open job: its document, status, and ways to change it; kept fresh by server-sent events. */
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, useCallback, useContext, useMemo, useState } from "react";
import { api, take, together, type Change, type JobState, type JobStatus } from "../api/client";
import { useEvents } from "../api/events";
import type { Told } from "../api/happenings";
import type { JobDocument } from "./document";

export type Edit = { path: string; value?: unknown; was?: unknown; op?: Change["op"]; check?: boolean };

/** What can be done to the job; the same as long as it is open. */
export type JobActs = {
  id: string;
  setNote: (text: string | null, ok?: boolean) => void;
  /** Change fields; gives the message of what is wrong, or an empty string. */
  edit: (edits: Edit[], label: string) => Promise<string>;
  /** Do something at the server that gives back the job, alone or as `job` of an answer, and show it; as `edit`. */
  run: (work: () => Promise<unknown>) => Promise<string>;
  undo: () => void;
  redo: () => void;
  compute: (setup: string, operations?: number[], proof?: boolean) => void;
  cancel: (task: string) => void;
  reload: () => void;
};
export type JobApi = JobActs & { doc: JobDocument; version: number };

export type Standing = Omit<JobStatus, "version">;

/** What comes and goes while the job stays as it is; apart, so that it is not drawn again as a whole for it. */
export type JobStanding = {
  status: Standing | undefined;
  note: { text: string; ok: boolean } | null;
  saving: boolean;
};

export const StandingContext = createContext<JobStanding>({ status: undefined, note: null, saving: false });
export const useStanding = () => useContext(StandingContext);
export const ActsContext = createContext<JobActs | null>(null);
export function useActs(): JobActs {
  const acts = useContext(ActsContext);
  if (!acts) throw new Error("outside a job");
  return acts;
}
export const JobContext = createContext<JobApi | null>(null);

export function useJob(): JobApi {
  const job = useContext(JobContext);
  if (!job) throw new Error("outside a job");
  return job;
}

/** The later of two states of a job: answers may come in another order than that in which they were given. */
const laterOf = <T extends { version: number }>(a: T | undefined, b: T): T => (a && a.version > b.version ? a : b);

/** A status that only counts a version on is the same, and draws nothing anew. */
const withoutVersion = ({ version, ...rest }: JobStatus): Standing => rest;

export function useJobApi(id: string): {
  job: JobApi | null;
  acts: JobActs;
  standing: JobStanding;
  error: Error | null;
} {
  const client = useQueryClient();
  const [note, setNoteState] = useState<JobStanding["note"]>(null);
  const [saving, setSaving] = useState(0);
  const path = useMemo(() => ({ params: { path: { job_id: id } } }), [id]);
  const state = useQuery({
    queryKey: ["job", id],
    queryFn: async () => {
      const found = await take(api.GET("/api/jobs/{job_id}", { ...path, ...together }));
      return laterOf(client.getQueryData<typeof found>(["job", id]), found);
    },
  });
  const status = useQuery({
    queryKey: ["status", id],
    queryFn: () => take(api.GET("/api/jobs/{job_id}/status", { ...path, ...together })),
    select: withoutVersion,
  });

  const setNote = useCallback((text: string | null, ok = false) => setNoteState(text ? { text, ok } : null), []);
  const reload = useCallback(() => {
    client.invalidateQueries({ queryKey: ["job", id] });
    client.invalidateQueries({ queryKey: ["status", id] });
  }, [client, id]);

  const heard = useCallback(
    async ({ kind, data }: Told) => {
      if (kind === "hello") return reload();
      if (data.job !== id || kind === "head") return;
      // First what was changed, then what follows from it; what this tab changed itself it knows already.
      const known = client.getQueryData<JobState>(["job", id])?.version ?? -1;
      if (kind === "job" && !(data.version! <= known)) await client.invalidateQueries({ queryKey: ["job", id] });
      client.invalidateQueries({ queryKey: ["status", id] });
      if (kind === "release") client.invalidateQueries({ queryKey: ["releases", id] });
      // Also what was done may tell of rows that could not be computed.
      const told = data.state === "failed" || (data.state === "done" && data.words !== "done");
      if (kind === "task" && told) setNote(data.words ?? "");
    },
    [client, id, reload, setNote],
  );
  useEvents(heard);

  const run = useCallback(
    async (work: () => Promise<unknown>): Promise<string> => {
      setSaving((n) => n + 1);
      try {
        const result = (await work()) as Partial<JobState> & { job?: JobState };
        const state = result?.document ? (result as JobState) : result?.job;
        if (state?.document) client.setQueryData<JobState>(["job", id], (now) => laterOf(now, state));
        client.invalidateQueries({ queryKey: ["status", id] });
        setNoteState(null);
        return "";
      } catch (e) {
        setNoteState({ text: (e as Error).message, ok: false });
        client.invalidateQueries({ queryKey: ["job", id] });
        return (e as Error).message;
      } finally {
        setSaving((n) => n - 1);
      }
    },
    [client, id],
  );

  const acts = useMemo<JobActs>(
    () => ({
      id,
      setNote,
      reload,
      run,
      edit: (edits, label) =>
        run(() =>
          take(
            api.PATCH("/api/jobs/{job_id}", {
              ...path,
              body: {
                label,
                changes: edits.map((e) => ({ op: "set", check: e.op === undefined || e.op === "set", ...e }) as Change),
              },
            }),
          ),
        ),
      undo: () => void run(() => take(api.POST("/api/jobs/{job_id}/undo", path))),
      redo: () => void run(() => take(api.POST("/api/jobs/{job_id}/redo", path))),
      compute: (setup, operations = [], proof = true) =>
        void run(() => take(api.POST("/api/jobs/{job_id}/compute", { ...path, body: { setup, operations, proof } }))),
      cancel: (task) =>
        void run(() => take(api.POST("/api/tasks/{task_id}/cancel", { params: { path: { task_id: task } } }))),
    }),
    [id, run, path, setNote, reload],
  );
  const job = useMemo<JobApi | null>(
    () => (state.data ? { ...acts, doc: state.data.document as JobDocument, version: state.data.version } : null),
    [state.data, acts],
  );
  const standing = useMemo(() => ({ status: status.data, note, saving: saving > 0 }), [status.data, note, saving]);
  return { job, acts, standing, error: state.error };
}
