import { Button, Group, Text, TextInput, Title } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { useLocation } from "wouter";
import { Person } from "../access/Person";
import { api, take } from "../api/client";
import { PickFile, withFile } from "../forms/PickFile";
import { GettingReady } from "./GettingReady";
import { JobTable, type Attempt, type Note } from "./JobTable";

const MODEL = /\.(step|stp|iges|igs|brep|brp|stl|3mf|obj)$/i;

/** All jobs; find one, make one, drop a file that becomes one. */
export function JobList() {
  const [, go] = useLocation();
  const client = useQueryClient();
  const [note, setNote] = useState<Note>(null);
  const [busy, setBusy] = useState("");
  const [over, setOver] = useState(false);
  const [find, setFind] = useState("");
  const attempt = useCallback<Attempt>(
    async (work, words = "") => {
      setBusy(words);
      setNote(null);
      try {
        await work();
        void client.invalidateQueries({ queryKey: ["jobs"] });
      } catch (e) {
        setNote({ text: (e as Error).message });
      } finally {
        setBusy("");
      }
    },
    [client],
  );
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
      {(busy || note) && (
        <div className={`note${busy || note?.undo ? " ok" : ""}`} role={busy ? "status" : "alert"}>
          <span style={{ flex: 1 }}>{busy || note?.text}</span>
          {note?.undo && (
            <Button size="compact-xs" variant="default" onClick={note.undo}>
              Undo
            </Button>
          )}
        </div>
      )}
      <JobTable find={find} attempt={attempt} setNote={setNote} />
    </main>
  );
}
