import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type Schemas, take } from "../../api/client";
import type { Tool } from "../../job/document";
import { useJob } from "../../job/useJob";

/** Where the job's tool is not as the shop's. */
export function Differences({ tool }: { tool: Tool }) {
  const job = useJob();
  const all = useQuery<Schemas["Differs"][]>({
    queryKey: ["differences", job.id, job.version],
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/differences", { params: { path: { job_id: job.id } } }),
      ) as unknown as Promise<Schemas["Differs"][]>,
  });
  const mine = all.data?.find((d) => d.number === tool.number);
  if (!mine) return null;
  return (
    <details className="fixture">
      <summary>△ Differs from the library in {mine.fields.length}</summary>
      <dl className="facts">
        {mine.fields.map(([field, was, is]) => [
          <dt key={field as string}>{field as string}</dt>,
          <dd key={`${field}v`}>
            {JSON.stringify(was)?.slice(0, 24)} → {JSON.stringify(is)?.slice(0, 24)}
          </dd>,
        ])}
      </dl>
    </details>
  );
}
