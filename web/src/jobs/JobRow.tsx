import { ActionIcon, Anchor, Menu, Progress } from "@mantine/core";
import { memo } from "react";
import { Link } from "wouter";
import type { JobHead } from "../api/client";
import { clock } from "../theme";
import { counted } from "../words";

const STATES: Record<JobHead["state"], { mark: string; words: string; look: string }> = {
  "": { mark: "…", words: "being looked at", look: "faint" },
  empty: { mark: "○", words: "empty", look: "faint" },
  "in work": { mark: "△", words: "in work", look: "warn" },
  waiting: { mark: "◷", words: "waiting", look: "faint" },
  computing: { mark: "◷", words: "computing", look: "" },
  failed: { mark: "✕", words: "failed", look: "fault" },
  faults: { mark: "✕", words: "faults", look: "fault" },
  proven: { mark: "✓", words: "proven", look: "" },
};

const WHEN = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

/** One job: its part, what it lacks, how long it runs. */
export const JobRow = memo(function JobRow({
  job,
  onDelete,
  onDuplicate,
}: {
  job: JobHead;
  onDelete: (job: JobHead) => void;
  onDuplicate: (job: JobHead) => void;
}) {
  const state = STATES[job.state];
  const busy = job.state === "computing" || job.state === "waiting";
  return (
    <tr>
      <td className="picture">
        {job.picture ? (
          <img src={`/api/jobs/${job.id}/picture?of=${job.picture}`} alt="" width={96} height={64} loading="lazy" />
        ) : (
          <span className="nopicture" aria-hidden />
        )}
      </td>
      <td title={job.name}>
        <Anchor component={Link} href={`/jobs/${job.id}/part`} fw={600}>
          {job.name}
        </Anchor>
        <div className="faint">{job.part || "no model yet"}</div>
      </td>
      <td>
        {counted(job.setups, "setup")}
        <div className="faint">
          {counted(job.rows, "row")}, {counted(job.tools, "tool")}
        </div>
      </td>
      <td className="n">{job.time_s == null ? "–" : clock(job.time_s)}</td>
      <td className="state">
        <span className={state.look}>
          <span aria-hidden>{state.mark}</span> {state.words}
          {job.state === "computing" && ` ${Math.round(100 * job.fraction)} %`}
        </span>
        {job.state === "computing" && (
          <Progress size="xs" value={100 * job.fraction} aria-label={`${job.name} computing`} />
        )}
        {job.finished != null && !busy && (
          <div className="faint">finished {(100 * job.finished).toFixed(1)} % of the surface</div>
        )}
        {job.words && (
          <div className="faint" title={job.words}>
            {busy && job.state === "waiting" ? "for its turn" : job.words}
          </div>
        )}
      </td>
      <td>{WHEN.format(new Date(job.changed_at))}</td>
      <td>
        <Menu position="bottom-end">
          <Menu.Target>
            <ActionIcon variant="subtle" color="gray" aria-label={`Acts on ${job.name}`}>
              ⋯
            </ActionIcon>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={() => onDuplicate(job)}>Duplicate</Menu.Item>
            <Menu.Item component="a" href={`/api/jobs/${job.id}/export`}>
              Export
            </Menu.Item>
            <Menu.Item onClick={() => onDelete(job)}>Delete</Menu.Item>
          </Menu.Dropdown>
        </Menu>
      </td>
    </tr>
  );
});
