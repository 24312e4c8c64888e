/** The list of jobs, kept fresh; those whose state is unknown tell it one by one. */
import { useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import { api, take } from "../api/client";
import { useEvents } from "../api/events";

export function useJobs() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["jobs"], queryFn: () => take(api.GET("/api/jobs")), staleTime: 0 });
  const unknown = useMemo(() => (list.data ?? []).filter((j) => !j.known), [list.data]);
  const told = useQueries({
    queries: unknown.map((j) => ({
      queryKey: ["job head", j.id, j.version, j.changed_at],
      queryFn: () => take(api.GET("/api/jobs/{job_id}/head", { params: { path: { job_id: j.id } } })),
      retry: false,
      staleTime: 0,
    })),
  });
  const refresh = useCallback(() => void client.invalidateQueries({ queryKey: ["jobs"] }), [client]);
  useEvents(refresh);
  const known = new Map(told.flatMap((t) => (t.data ? [[t.data.id, t.data]] : [])));
  return {
    heads: (list.data ?? []).map((j) => {
      const head = j.known ? j : known.get(j.id);
      // What is being done is of the moment; the rest may have been told before.
      return head ? { ...head, ...(j.state && { state: j.state, words: j.words, fraction: j.fraction }) } : j;
    }),
    loaded: !!list.data,
    error: list.error,
    refresh,
  };
}
