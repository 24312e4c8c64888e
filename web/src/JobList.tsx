import { Anchor, Button, Group, Table, Text, Title } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation } from "wouter";
import { api, take } from "./api/client";
import { PickFile, withFile } from "./forms/PickFile";

/** All jobs; make one, or bring one in from a file. */
export function JobList() {
  const [, go] = useLocation();
  const [note, setNote] = useState("");
  const client = useQueryClient();
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => take(api.GET("/api/jobs")), staleTime: 0 });
  const attempt = async (work: () => Promise<{ id: string }>) => {
    try {
      const job = await work();
      client.invalidateQueries({ queryKey: ["jobs"] });
      go(`/jobs/${job.id}/part`);
    } catch (e) {
      setNote((e as Error).message);
    }
  };
  const bring = (file: File) => {
    attempt(() => take(api.POST("/api/jobs/import", { ...withFile(file) })));
  };
  return (
    <main style={{ maxWidth: 760, margin: "40px auto", padding: "0 16px" }}>
      <Group justify="space-between" mb="md">
        <div>
          <Title order={1} size="h2">
            Fenrik
          </Title>
          <Text c="dimmed">From a solid model to proven machine code.</Text>
        </div>
        <Group>
          <PickFile accept=".zip,.json" variant="default" onFile={bring}>
            Import a job
          </PickFile>
          <Button onClick={() => attempt(() => take(api.POST("/api/jobs", { body: { name: "New job" } })))}>
            New job
          </Button>
        </Group>
      </Group>
      {note && (
        <Text className="fault" role="alert">
          {note}
        </Text>
      )}
      {jobs.error && (
        <Text className="fault" role="alert">
          {jobs.error.message}
        </Text>
      )}
      <Table highlightOnHover>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Job</Table.Th>
            <Table.Th>Changed</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {jobs.data?.map((j) => (
            <Table.Tr key={j.id}>
              <Table.Td>
                <Anchor component={Link} href={`/jobs/${j.id}/part`} fw={600}>
                  {j.name}
                </Anchor>
              </Table.Td>
              <Table.Td>{new Date(j.changed_at).toLocaleString()}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {jobs.data?.length === 0 && (
        <Text c="dimmed" mt="md">
          No jobs yet. Make a new one, then drop a model into it.
        </Text>
      )}
    </main>
  );
}
