import { Button, Group, Progress, Text, Tooltip } from "@mantine/core";
import { openSpotlight } from "@mantine/spotlight";
import { Link } from "wouter";
import { Person } from "../access/Person";
import { useJob, useStanding } from "./useJob";
import { useNext } from "./useNext";

/** The job's name, what is being computed, undo, export, commands. */
export function TopBar() {
  const job = useJob();
  const { doc, id } = job;
  const { status, saving } = useStanding();
  const next = useNext();
  const task = status?.tasks.find((t) => t.state === "running") ?? status?.tasks.find((t) => t.state === "waiting");
  return (
    <header className="top">
      <Link href="/" style={{ fontWeight: 700, color: "var(--accent)", textDecoration: "none" }}>
        Fenrik
      </Link>
      <Text fw={600} truncate maw={260}>
        {doc.name}
      </Text>
      {doc.part && (
        <Text className="faint" truncate maw={220}>
          {doc.part.file}
        </Text>
      )}
      <Text className="faint" role="status">
        {saving ? "saving …" : "saved"}
      </Text>
      <span style={{ flex: 1 }} />
      {task && (
        <Group gap={8} wrap="nowrap" role="status">
          <Text truncate maw={240}>
            {task.words}
          </Text>
          <Progress value={100 * task.fraction} w={110} aria-label="Progress of the computation" />
          <Text className="faint" w={38} ta="right">
            {Math.round(100 * task.fraction)} %
          </Text>
          <Button size="compact-xs" variant="default" onClick={() => job.cancel(task.id)}>
            Cancel
          </Button>
        </Group>
      )}
      {next && (
        <Button size="compact-sm" onClick={next.act} loading={saving}>
          {next.words}
        </Button>
      )}
      <Tooltip label="Undo (Ctrl+Z)">
        <Button size="compact-sm" variant="default" disabled={!status?.can_undo} onClick={job.undo}>
          Undo
        </Button>
      </Tooltip>
      <Tooltip label="Redo (Ctrl+Shift+Z)">
        <Button size="compact-sm" variant="default" disabled={!status?.can_redo} onClick={job.redo}>
          Redo
        </Button>
      </Tooltip>
      <Button size="compact-sm" variant="default" component="a" href={`/api/jobs/${id}/export`}>
        Export
      </Button>
      <Button size="compact-sm" variant="default" onClick={() => openSpotlight()}>
        Commands{" "}
        <span className="faint" style={{ marginLeft: 6 }}>
          Ctrl+K
        </span>
      </Button>
      <Person />
    </header>
  );
}
