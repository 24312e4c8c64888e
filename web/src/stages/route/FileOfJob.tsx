import { Group, Select } from "@mantine/core";
import { api, take } from "../../api/client";
import { keptName, PickFile, withFile } from "../../forms/PickFile";
import { useJob } from "../../job/useJob";

type Props = { label: string; value: string; accept: string; onChange: (name: string) => void };

/** A further file of the job: one that is there, or one that is brought in. */
export function FileOfJob({ label, value, accept, onChange }: Props) {
  const job = useJob();
  const suffixes = accept.split(",");
  const there = job.doc.files.filter((f) => suffixes.some((s) => f.toLowerCase().endsWith(s)));
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      onChange(keptName(file));
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <Group gap={6} align="end" wrap="nowrap">
      <Select
        size="xs"
        style={{ flex: 1 }}
        label={label}
        placeholder={there.length ? "choose" : "none yet"}
        data={there}
        value={value || null}
        allowDeselect={false}
        onChange={(v) => v && onChange(v)}
      />
      <PickFile accept={accept} size="xs" variant="default" onFile={bring}>
        Bring in
      </PickFile>
    </Group>
  );
}
