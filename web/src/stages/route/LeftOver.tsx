import { Button, Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { FaceRow } from "../../job/FaceRow";
import { pick } from "../../job/picking";
import { useCoverage, useFinish } from "../../job/queries";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { counted } from "../../words";

/** What of the surface the route leaves, face by face: how much, why, and the row that would do it. */
export function LeftOver() {
  const job = useJob();
  const { saving } = useStanding();
  const finish = useFinish();
  const coverage = useCoverage().data;
  const features = coverage?.uncovered ?? [];
  if (finish.error)
    return (
      <Text p={12} className="faint">
        {finish.error.message}
      </Text>
    );
  if (!finish.data)
    return (
      <Text p={12} className="faint" role="status">
        Looking at the surface …
      </Text>
    );
  const { left_over: left, measured, finished_fraction } = finish.data;
  const make = (faces: number[]) =>
    job.run(() =>
      take(api.POST("/api/jobs/{job_id}/left-over", { params: { path: { job_id: job.id } }, body: { faces } })),
    );
  const share = `${(100 * finished_fraction).toFixed(1)} % of the surface`;
  return (
    <div className="scroll">
      <Group px={8} py={5} gap={8}>
        <Text>
          {measured ? `Finished, measured: ${share}` : `The rows will finish ${share}`};{" "}
          {left.length ? `${counted(left.length, "face")} left` : "nothing left"}.
        </Text>
        {left.length > 0 && (
          <>
            <Button
              size="compact-xs"
              variant="default"
              onClick={() => pick({ faces: left.map((l) => l.face), edges: [] })}
            >
              Show them all
            </Button>
            <Button
              size="compact-xs"
              variant="default"
              disabled={!left.some((l) => l.setup)}
              loading={saving}
              onClick={() => make(left.filter((l) => l.setup).map((l) => l.face))}
            >
              Rows for all
            </Button>
          </>
        )}
        {coverage && !features.length && (
          <Text className="faint">✓ All {coverage.features} features are made by some operation.</Text>
        )}
      </Group>
      {left.length + features.length > 0 && (
        <table className="dense" aria-label="Left over">
          <thead>
            <tr>
              <th className="n">Face</th>
              <th className="n">Area, mm²</th>
              <th className="n">{measured ? "Stands, mm" : "Stock, mm"}</th>
              <th>Why</th>
              <th>What would do it</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {left.map((l) => (
              <FaceRow key={l.face} faces={[l.face]}>
                <td className="n">{l.face}</td>
                <td className="n">{l.area_mm2.toFixed(1)}</td>
                <td className="n">{l.most_mm.toFixed(2)}</td>
                <td style={{ whiteSpace: "normal" }}>{l.why}</td>
                <td style={{ whiteSpace: "normal" }}>{l.would_do || "–"}</td>
                <td>
                  <Button
                    size="compact-xs"
                    variant="default"
                    disabled={!l.setup}
                    aria-label={`Make rows for face ${l.face}`}
                    onClick={(e) => {
                      e.stopPropagation();
                      make([l.face]);
                    }}
                  >
                    Make it
                  </Button>
                </td>
              </FaceRow>
            ))}
            {features.map((u) => (
              <FaceRow key={u.name} faces={u.faces}>
                <td colSpan={3}>
                  {u.name}, {u.kind}
                </td>
                <td style={{ whiteSpace: "normal" }} colSpan={3}>
                  no row makes it as a feature: {u.words} {u.why}
                </td>
              </FaceRow>
            ))}
          </tbody>
        </table>
      )}
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
