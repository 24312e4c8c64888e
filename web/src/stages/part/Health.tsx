import { Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { useJob } from "../../job/useJob";
import { f } from "./references";

export function Health() {
  const job = useJob();
  const notes = useQuery({
    queryKey: ["health", job.id, job.doc.part?.file, job.doc.part?.scale],
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/part/health", { params: { path: { job_id: job.id } } })),
  });
  if (notes.error)
    return (
      <Text p={12} className="fault">
        {notes.error.message}
      </Text>
    );
  if (!notes.data)
    return (
      <Text p={12} className="faint">
        Checking surfaces and edges …
      </Text>
    );
  if (!notes.data.length)
    return <Text p={12}>✓ The model is sound: closed, no slivers, no tiny edges, nothing crosses itself.</Text>;
  return (
    <div className="scroll">
      <table className="dense">
        <thead>
          <tr>
            <th>What</th>
            <th>Mended</th>
            <th>Where</th>
            <th>Details</th>
          </tr>
        </thead>
        <tbody>
          {notes.data.map((n, k) => (
            <tr key={k}>
              <td>{n.kind}</td>
              <td>{n.mended ? "✓ yes" : "△ no"}</td>
              <td>{n.place?.map((v) => f(v)).join(", ") ?? ""}</td>
              <td style={{ whiteSpace: "normal" }}>{n.message}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
