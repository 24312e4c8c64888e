import { Text } from "@mantine/core";
import { useCallback, useMemo, useState } from "react";
import { api, type JobHead, take } from "../api/client";
import { counted } from "../words";
import { JobRow } from "./JobRow";
import { useJobs } from "./useJobs";

export type Note = { text: string; undo?: () => void } | null;
/** Does something at the server, says while it lasts what it is and afterwards what went wrong. */
export type Attempt = (work: () => Promise<unknown>, words?: string) => Promise<void>;
/** Pixels of the columns, so that a row that changes leaves all others where they are; the job has the rest. */
const WIDTHS = [112, undefined, 118, 130, 230, 178, 48];
type Order = { by: "changed" | "name" | "state" | "time"; up: boolean };

const KEYS: Record<Order["by"], (j: JobHead) => string | number> = {
  changed: (j) => j.changed_at,
  name: (j) => j.name.toLowerCase(),
  state: (j) => j.state,
  time: (j) => j.time_s ?? -1,
};

/** The jobs in which every word is found; alone, so that a change at the server draws no more than its row again. */
export function JobTable({
  find,
  attempt,
  setNote,
}: {
  find: string;
  attempt: Attempt;
  setNote: (note: Note) => void;
}) {
  const jobs = useJobs();
  const [order, setOrder] = useState<Order>({ by: "changed", up: false });
  const remove = useCallback(
    (job: JobHead) =>
      void attempt(async () => {
        const path = { params: { path: { job_id: job.id } } };
        await take(api.DELETE("/api/jobs/{job_id}", path));
        const undo = () => void attempt(() => take(api.POST("/api/jobs/{job_id}/restore", path)));
        setNote({ text: `${job.name} was deleted.`, undo });
      }),
    [attempt, setNote],
  );
  const duplicate = useCallback(
    (job: JobHead) =>
      void attempt(() => take(api.POST("/api/jobs/{job_id}/duplicate", { params: { path: { job_id: job.id } } }))),
    [attempt],
  );
  const shown = useMemo(() => {
    const words = find.toLowerCase().split(/\s+/).filter(Boolean);
    const fits = jobs.heads.filter((j) =>
      words.every((w) => `${j.name} ${j.part} ${j.state}`.toLowerCase().includes(w)),
    );
    const key = KEYS[order.by];
    return fits.sort((a, b) => (key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : 0) * (order.up ? 1 : -1));
  }, [jobs.heads, find, order]);
  return (
    <>
      {jobs.error && (
        <div className="note" role="alert">
          {jobs.error.message}
        </div>
      )}
      {shown.length > 0 && (
        <table className="dense jobs" aria-label="Jobs">
          <colgroup>
            {WIDTHS.map((width, k) => (
              <col key={k} width={width} />
            ))}
          </colgroup>
          <thead>
            <tr>
              <th aria-label="Picture" />
              <Sortable by="name" title="Job" order={order} onOrder={setOrder} />
              <th>Route</th>
              <Sortable by="time" title="Machining time" order={order} onOrder={setOrder} />
              <Sortable by="state" title="State" order={order} onOrder={setOrder} />
              <Sortable by="changed" title="Changed" order={order} onOrder={setOrder} />
              <th aria-label="Acts" />
            </tr>
          </thead>
          <tbody>
            {shown.map((j) => (
              <JobRow key={j.id} job={j} onDelete={remove} onDuplicate={duplicate} />
            ))}
          </tbody>
        </table>
      )}
      {jobs.loaded && (
        <Text c="var(--faint)" mt="md" ta="center">
          {find && shown.length === 0
            ? `No job has “${find}” in its name, its file or its state.`
            : jobs.heads.length === 0
              ? "No jobs yet. Drop a model file anywhere on this page, or choose one above: it becomes a job."
              : `${counted(shown.length, "job")}. Drop a model file anywhere on this page to begin another.`}
        </Text>
      )}
    </>
  );
}

/** A column's head that sorts by it; once more the other way round. */
function Sortable({
  by,
  title,
  order,
  onOrder,
}: {
  by: Order["by"];
  title: string;
  order: Order;
  onOrder: (order: Order) => void;
}) {
  const mine = order.by === by;
  return (
    <th
      className={by === "time" ? "n" : undefined}
      aria-sort={mine ? (order.up ? "ascending" : "descending") : undefined}
    >
      <button type="button" className="sort" onClick={() => onOrder({ by, up: mine ? !order.up : by === "name" })}>
        {title} <span aria-hidden>{mine ? (order.up ? "↑" : "↓") : ""}</span>
      </button>
    </th>
  );
}
