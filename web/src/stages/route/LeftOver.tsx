import { Button, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { FaceRow } from "../../job/FaceRow";
import { pick } from "../../job/picking";
import { useCoverage } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** What no operation makes: counted, listed, shown in the part. */
export function LeftOver() {
  const found = useCoverage();
  if (found.error)
    return (
      <Text p={12} className="faint">
        {found.error.message}
      </Text>
    );
  if (!found.data)
    return (
      <Text p={12} className="faint">
        Comparing features with the route …
      </Text>
    );
  const left = found.data.uncovered;
  if (!left.length) return <Text p={12}>✓ All {found.data.features} features are made by some operation.</Text>;
  return (
    <div className="scroll">
      <Text px={8} py={5}>
        {left.length} of {found.data.features} features are made by no operation.{" "}
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => pick({ faces: left.flatMap((u) => u.faces), edges: [] })}
        >
          Pick them all
        </Button>
      </Text>
      <table className="dense" aria-label="Left over">
        <thead>
          <tr>
            <th>Feature</th>
            <th>Kind</th>
            <th>Size, mm</th>
          </tr>
        </thead>
        <tbody>
          {left.map((u) => (
            <FaceRow key={u.name} faces={u.faces}>
              <td>{u.name}</td>
              <td>{u.kind}</td>
              <td>
                {u.words} {u.why}
              </td>
            </FaceRow>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Fewer tool changes: a proposal with what it saves. */
export function OrderOffer() {
  const job = useJob();
  const view = useView();
  const params = { params: { path: { job_id: job.id, setup_id: view.setup } } };
  const found = useQuery({
    queryKey: ["order", job.id, view.setup, job.version],
    enabled: !!view.setup,
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/order", params)),
  });
  const o = found.data;
  if (!o || o.changes_after >= o.changes_before) return null;
  const takeIt = () => job.run(() => take(api.POST("/api/jobs/{job_id}/setups/{setup_id}/order", params)));
  return (
    <fieldset>
      <legend>Order</legend>
      <Text mb={6}>
        {o.changes_before} tool changes; {o.changes_after} would do, {Math.round(o.saves_s)} s less.
      </Text>
      <Button size="compact-sm" variant="default" onClick={takeIt}>
        Take that order
      </Button>
    </fieldset>
  );
}
