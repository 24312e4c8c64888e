import { Group, Text } from "@mantine/core";
import { api, take } from "../../api/client";
import { keptName, PickFile, withFile } from "../../forms/PickFile";
import type { AnyOf, Cutter, Tool } from "../../job/document";
import { useJob } from "../../job/useJob";

/** A cutter's contour from a DXF of the job. */
export function Contour({ tool, onTake }: { tool: Tool; onTake: (places: [number, number, number][]) => void }) {
  const job = useJob();
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      onTake(
        (await take(
          api.GET("/api/jobs/{job_id}/contour/{name}", { params: { path: { job_id: job.id, name: keptName(file) } } }),
        )) as never,
      );
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <Group gap={8} mt={6}>
      <PickFile accept=".dxf" size="compact-xs" variant="default" onFile={bring}>
        Contour from a DXF
      </PickFile>
      <Text className="faint">{((tool.cutter as AnyOf<Cutter>).places ?? []).length} places</Text>
    </Group>
  );
}
