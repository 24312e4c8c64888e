import { Button, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { FaceRow } from "../../job/FaceRow";
import { pick } from "../../job/picking";
import { useJob } from "../../job/useJob";

const SIGNS: Record<string, string> = { moved: "→", resized: "↔", gone: "✕", new: "+" };

export function Changes() {
  const job = useJob();
  const changes = useQuery({
    queryKey: ["changes", job.id, job.version],
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/part/changes", { params: { path: { job_id: job.id } } })),
  });
  if (changes.error)
    return (
      <Text p={12} className="fault">
        {changes.error.message}
      </Text>
    );
  const rows = changes.data?.filter((c) => c.change !== "same") ?? [];
  if (!changes.data)
    return (
      <Text p={12} className="faint">
        Comparing …
      </Text>
    );
  if (!changes.data.length)
    return (
      <Text p={12} className="faint">
        This is the first version of the model. Replace it, and what changed is listed here.
      </Text>
    );
  return (
    <div className="scroll">
      <Text px={8} py={5}>
        {changes.data.length - rows.length} faces are the same, {rows.length} are not.{" "}
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => pick({ faces: rows.map((r) => r.after).filter((k) => k >= 0), edges: [] })}
        >
          Show them all
        </Button>
      </Text>
      <table className="dense" aria-label="Changes">
        <thead>
          <tr>
            <th>Change</th>
            <th>Face</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r, k) => (
            <FaceRow key={k} faces={r.after >= 0 ? [r.after] : []}>
              <td>
                {SIGNS[r.change]} {r.change}
              </td>
              <td>{r.words}</td>
            </FaceRow>
          ))}
        </tbody>
      </table>
    </div>
  );
}
