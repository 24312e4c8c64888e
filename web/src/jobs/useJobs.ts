/** The list of jobs, kept fresh; those whose state is unknown tell it one by one. */
import { useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import { api, take, together, type JobHead } from "../api/client";
import { useEvents } from "../api/events";
import type { Told } from "../api/happenings";

/** So that of many people one asks first: the answer to it is told to all, and the others need not ask. */
const someTime = () => new Promise((r) => setTimeout(r, 400 * Math.random()));

/** The list with a job as it is now: changed, new, or (no head) gone. */
const placed = (list: JobHead[] | undefined, id: string, head: JobHead | null) =>
  list && [...(head ? [head] : []), ...list.filter((j) => j.id !== id)];

export function useJobs() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["jobs"], queryFn: () => take(api.GET("/api/jobs", together)), staleTime: 0 });
  const unknown = useMemo(() => (list.data ?? []).filter((j) => !j.known), [list.data]);
  const told = useQueries({
    queries: unknown.map((j) => ({
      queryKey: ["job head", j.id, j.version, j.changed_at],
      queryFn: async ({ signal }: { signal: AbortSignal }) => {
        await someTime();
        signal.throwIfAborted();
        return take(api.GET("/api/jobs/{job_id}/head", { params: { path: { job_id: j.id } }, signal, ...together }));
      },
      retry: false,
      staleTime: 0,
    })),
  });
  const refresh = useCallback(() => void client.invalidateQueries({ queryKey: ["jobs"] }), [client]);
  const hear = useCallback(
    ({ data }: Told) => {
      // An answer that is on its way may be older than what was told.
      if (!data.job || data.head === undefined || client.isFetching({ queryKey: ["jobs"] })) return refresh();
      client.setQueryData<JobHead[]>(["jobs"], (list) => placed(list, data.job!, data.head!));
    },
    [client, refresh],
  );
  useEvents(hear);
  const known = new Map(told.flatMap((t) => (t.data ? [[t.data.id, t.data]] : [])));
  return {
    heads: (list.data ?? []).map((j) => {
      const head = j.known ? undefined : known.get(j.id);
      // What is being done is of the moment; the rest may have been told before.
      return head ? { ...head, ...(j.state && { state: j.state, words: j.words, fraction: j.fraction }) } : j;
    }),
    loaded: !!list.data,
    error: list.error,
  };
}
