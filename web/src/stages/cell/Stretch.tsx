import { Button, Group, Text } from "@mantine/core";
import { useState } from "react";
import { api, take, type Schemas } from "../../api/client";
import { NumberField } from "../../forms/NumberField";
import type { Operation } from "../../job/document";
import { getMoving, setMoving } from "../../job/moving";
import { useJob } from "../../job/useJob";
import { times } from "./words";

const FIRST_ROWS = 50;

/** Solves a part of the row alone, quickly, to see what the wishes make of it. */
export function Stretch({ row, ready }: { row: Operation; ready: boolean }) {
  const job = useJob();
  const [first, setFirst] = useState(1);
  const [last, setLast] = useState(FIRST_ROWS);
  const [found, setFound] = useState<Schemas["Stretch"] | null>(null);
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const solve = async () => {
    setBusy(true);
    setWrong("");
    setFound(null);
    try {
      const params = { path: { job_id: job.id, number: row.number }, query: { first: first - 1, last } };
      setFound(await take(api.GET("/api/jobs/{job_id}/operations/{number}/stretch", { params })));
    } catch (error) {
      setWrong((error as Error).message);
    }
    setBusy(false);
  };
  const here = () => {
    const at = getMoving().row + 1;
    setFirst(at);
    setLast(at + FIRST_ROWS - 1);
  };
  return (
    <fieldset>
      <legend>A stretch first</legend>
      <Group gap={6} grow align="end" wrap="nowrap">
        <NumberField label="From row" value={first} range={{ min: 1, max: last }} onCommit={(v) => setFirst(v!)} />
        <NumberField label="To row" value={last} range={{ min: first }} onCommit={(v) => setLast(v!)} />
      </Group>
      <Group gap={6} mt={6}>
        <Button size="xs" variant="default" disabled={!ready} loading={busy} onClick={() => void solve()}>
          Solve this stretch
        </Button>
        <Button size="xs" variant="subtle" onClick={here}>
          From the row looked at
        </Button>
      </Group>
      {wrong && <Text className="fault">✕ {wrong}</Text>}
      {found && (
        <dl className="facts" data-testid="stretch">
          <dt>Not reached</dt>
          <dd className={found.lost ? "fault" : ""}>
            {found.lost ? `✕ ${found.lost} of ${found.rows}: ${found.why}` : `none of ${found.rows}`}
          </dd>
          <dt>Comes by another way</dt>
          <dd>{times(found.leaps)}</dd>
          <dt>Least from singular</dt>
          <dd>{found.singular.toFixed(2)}</dd>
          <dt>Least clearance, at least</dt>
          <dd>{found.clearance_mm.toFixed(0)} mm</dd>
        </dl>
      )}
      {found && found.joints.length > 0 && (
        <Button size="compact-xs" variant="default" onClick={() => setMoving({ joints: found.joints })}>
          Stand where it begins
        </Button>
      )}
    </fieldset>
  );
}
