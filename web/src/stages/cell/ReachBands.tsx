import { Text } from "@mantine/core";
import type { Operation } from "../../job/document";
import { useReach } from "../../job/queries";
import { useStanding } from "../../job/useJob";

/** How much of a row is reached along each axis round the arm: filled where all of it is, hatched where some is. */
export function ReachBands({ row }: { row: Operation }) {
  const { status } = useStanding();
  const ready = status?.operations.find((o) => o.number === row.number)?.state === "ready";
  const reach = useReach(row.number, ready);
  return (
    <fieldset>
      <legend>Reach</legend>
      {!ready && <Text className="faint">Compute the row's path; then its reach is shown.</Text>}
      {reach.error && <Text className="fault">{reach.error.message}</Text>}
      {ready && reach.isFetching && !reach.data && <Text className="faint">Looking at all poses …</Text>}
      {reach.data?.map((band) => (
        <div key={band.name} data-testid={`reach ${band.name}`}>
          <Text size="xs">
            {band.name}, {plain(band.value[0])} to {plain(band.value[band.value.length - 1])} {band.unit}:{" "}
            {words(band.share)}
          </Text>
          <div className="band" role="img" aria-label={`Reach along ${band.name}: ${words(band.share)}`}>
            {band.share.map((share, k) => (
              <i
                key={k}
                className={share >= 1 ? "all" : share > 0 ? "some" : "none"}
                title={`${band.value[k].toFixed(0)} ${band.unit}: ${(100 * share).toFixed(0)} %`}
              />
            ))}
          </div>
        </div>
      ))}
      {reach.data && (
        <div className="band-words">
          <i className="all" /> all reached <i className="some" /> some <i className="none" /> none
        </div>
      )}
    </fieldset>
  );
}

const plain = (v: number) => String(Math.round(v)).replace("-", "−");

function words(share: number[]): string {
  const all = share.filter((s) => s >= 1).length;
  if (all === share.length) return "all of the row at every value";
  if (all) return `all of the row at ${all} of ${share.length} values`;
  const most = Math.max(...share);
  return most > 0 ? `at most ${(100 * most).toFixed(0)} % of the row at one value` : "nothing of the row";
}
