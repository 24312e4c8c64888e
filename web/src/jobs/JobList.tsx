import { Button, Group, Text, TextInput, Title } from "@mantine/core";
import { useMemo, useState } from "react";
import { useLocation } from "wouter";
import { Person } from "../access/Person";
import { api, type JobHead, take } from "../api/client";
import { PickFile, withFile } from "../forms/PickFile";
import { counted } from "../words";
import { GettingReady } from "./GettingReady";
import { JobRow } from "./JobRow";
import { useJobs } from "./useJobs";

type Order = { by: "changed" | "name" | "state" | "time"; up: boolean };

const KEYS: Record<Order["by"], (j: JobHead) => string | number> = {
  changed: (j) => j.changed_at,
  name: (j) => j.name.toLowerCase(),
  state: (j) => j.state,
  time: (j) => j.time_s ?? -1,
};

const MODEL = /\.(step|stp|iges|igs|brep|brp|stl|3mf|obj)$/i;

/** All jobs; find one, make one, drop a file that becomes one. */
export function JobList() {
  const [, go] = useLocation();
  const jobs = useJobs();
  const [note, setNote] = useState<{ text: string; undo?: () => void } | null>(null);
  const [busy, setBusy] = useState("");
  const [over, setOver] = useState(false);
  const [find, setFind] = useState("");
  const [order, setOrder] = useState<Order>({ by: "changed", up: false });
  const attempt = async (work: () => Promise<unknown>, words = "") => {
    setBusy(words);
    setNote(null);
    try {
      await work();
      jobs.refresh();
    } catch (e) {
      setNote({ text: (e as Error).message });
    } finally {
      setBusy("");
    }
  };
  const open = (id: string) => go(`/jobs/${id}/part`);
  const fromFile = (file: File) =>
    attempt(async () => {
      if (!MODEL.test(file.name)) return open((await take(api.POST("/api/jobs/import", { ...withFile(file) }))).id);
      const { id } = await take(api.POST("/api/jobs", { body: { name: "New job" } }));
      const path = { params: { path: { job_id: id } } };
      try {
        await take(api.PUT("/api/jobs/{job_id}/part", { ...path, ...withFile(file) }));
      } catch (e) {
        await api.DELETE("/api/jobs/{job_id}", path); // what cannot be read leaves no empty job behind
        throw e;
      }
      open(id);
    }, `Reading ${file.name} …`);
  const remove = (job: JobHead) =>
    attempt(async () => {
      const path = { params: { path: { job_id: job.id } } };
      await take(api.DELETE("/api/jobs/{job_id}", path));
      const undo = () => void attempt(() => take(api.POST("/api/jobs/{job_id}/restore", path)));
      setNote({ text: `${job.name} was deleted.`, undo });
    });
  const duplicate = (job: JobHead) =>
    attempt(() => take(api.POST("/api/jobs/{job_id}/duplicate", { params: { path: { job_id: job.id } } })));
  const shown = useMemo(() => {
    const words = find.toLowerCase().split(/\s+/).filter(Boolean);
    const fits = jobs.heads.filter((j) =>
      words.every((w) => `${j.name} ${j.part} ${j.state}`.toLowerCase().includes(w)),
    );
    const key = KEYS[order.by];
    return fits.sort((a, b) => (key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : 0) * (order.up ? 1 : -1));
  }, [jobs.heads, find, order]);
  return (
    <main
      className={`jobs${over ? " dropping" : ""}`}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        if (e.dataTransfer.files[0]) fromFile(e.dataTransfer.files[0]);
      }}
    >
      <Group justify="space-between" mb="md">
        <div>
          <Title order={1} size="h2">
            Fenrik
          </Title>
          <Text c="var(--faint)">From a solid model to proven machine code.</Text>
        </div>
        <Group gap={8}>
          <TextInput
            size="sm"
            w={180}
            type="search"
            aria-label="Find a job"
            placeholder="Find a job"
            value={find}
            onChange={(e) => setFind(e.currentTarget.value)}
          />
          <Button
            variant="default"
            onClick={() =>
              attempt(async () => open((await take(api.POST("/api/jobs", { body: { name: "New job" } }))).id))
            }
          >
            Empty job
          </Button>
          <PickFile accept=".step,.stp,.iges,.igs,.brep,.brp,.stl,.3mf,.obj,.zip,.json" onFile={fromFile}>
            New job from a file
          </PickFile>
          <Person />
        </Group>
      </Group>
      <GettingReady />
      {(busy || note || jobs.error) && (
        <div className={`note${busy || note?.undo ? " ok" : ""}`} role={busy ? "status" : "alert"}>
          <span style={{ flex: 1 }}>{busy || note?.text || jobs.error?.message}</span>
          {note?.undo && (
            <Button size="compact-xs" variant="default" onClick={note.undo}>
              Undo
            </Button>
          )}
        </div>
      )}
      {shown.length > 0 && (
        <table className="dense jobs" aria-label="Jobs">
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
              <JobRow key={j.id} job={j} onDelete={() => remove(j)} onDuplicate={() => duplicate(j)} />
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
    </main>
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
