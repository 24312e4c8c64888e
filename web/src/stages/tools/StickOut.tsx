import { Button, Group, Text } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import type { Tool } from "../../job/document";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** The shortest safe stick-out, from the geometry of the setup. */
export function StickOut({ tool, onTake }: { tool: Tool; onTake: (mm: number) => void }) {
  const job = useJob();
  const view = useView();
  const row = job.doc.operations.find((o) => o.tool === tool.number && o.setup === view.setup);
  const offer = useQuery({
    queryKey: ["stick-out", job.id, tool.number, view.setup, job.version],
    enabled: !!job.doc.part && !!view.setup,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/{number}/stick-out", {
          params: {
            path: { job_id: job.id, number: tool.number },
            query: { setup: view.setup, ...(row ? { operation: row.number } : {}) },
          },
        }),
      ),
  });
  if (!offer.data)
    return offer.error ? (
      <Text className="faint" mt={4}>
        {offer.error.message}
      </Text>
    ) : null;
  const need = Math.ceil(offer.data.shortest_mm * 10) / 10,
    lacks = need > tool.stick_out_mm + 1e-6;
  return (
    <Group gap={6} mt={6} data-testid="stick-out">
      <Text className={lacks ? "fault" : "faint"}>
        {lacks ? "△ too short: " : ""}shortest safe {need} mm
        {offer.data.bound === "cutting length" ? " (its cutting length)" : ""}
        {row ? ` for ${row.number}` : ""}
      </Text>
      {Math.abs(need - tool.stick_out_mm) > 0.05 && (
        <Button size="compact-xs" variant="default" onClick={() => onTake(need)}>
          Use it
        </Button>
      )}
    </Group>
  );
}
