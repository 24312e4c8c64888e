import { Button, Group, Select, Text } from "@mantine/core";
import { useMemo, useState } from "react";
import type { Block, Finding } from "../../api/client";
import { getMoment, useMoment } from "../../job/moment";
import { operationEdge, SPEEDS, type StopOn } from "../../job/playing";
import type { AnyOf, JobDocument, Params } from "../../job/document";
import { useColumns, useProof } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { clock } from "../../theme";
import { Chart } from "./Chart";
import { usePlaying } from "./usePlaying";

const NONE: Finding[] = [];

/** The scrubber is a chart over time with the findings as marks; play, step, stop on findings. */
export function ProofBench() {
  const view = useView();
  const columns = useColumns(view.setup).data;
  const findings = useProof(view.setup).data?.findings ?? NONE;
  const { doc } = useJob();
  const targets = useMemo(() => targetsOf(doc), [doc]);
  if (!columns)
    return (
      <Text className="faint" p={12}>
        The chart appears when the route has been computed and proved.
      </Text>
    );
  return (
    <>
      <Controls columns={columns} findings={findings} />
      <Readout columns={columns} />
      <Chart columns={columns} findings={findings} targets={targets} onSeek={(motion) => view.set({ motion })} />
    </>
  );
}

/** The engagement that rows hold, by their number. */
function targetsOf(doc: JobDocument): Record<number, number> {
  const held = doc.operations.map((o) => [o.number, (o.params as AnyOf<Params>).engagement_deg] as const);
  return Object.fromEntries(held.filter(([, deg]) => deg != null)) as Record<number, number>;
}

function Controls({ columns, findings }: { columns: Block; findings: Finding[] }) {
  const view = useView();
  const [speed, setSpeed] = useState("20");
  const [stopOn, setStopOn] = useState<StopOn>("fault");
  const { playing, toggle } = usePlaying(columns, findings, Number(speed), stopOn);
  const n = columns.end_s.length;
  const go = (motion: number) => view.set({ motion: Math.max(0, Math.min(motion, n)) });
  return (
    <Group gap={6} px={10} pt={8} pb={4} wrap="nowrap">
      <Button size="compact-sm" w={64} onClick={toggle}>
        {playing ? "Pause" : "Play"}
      </Button>
      <Select
        size="xs"
        w={86}
        aria-label="Playing speed"
        value={speed}
        allowDeselect={false}
        data={SPEEDS.map((s) => ({ value: String(s), label: `× ${s}` }))}
        onChange={(v) => setSpeed(v!)}
      />
      <Button size="compact-sm" variant="default" onClick={() => go(operationEdge(columns.operation, getMoment(), -1))}>
        Operation start
      </Button>
      <Button size="compact-sm" variant="default" aria-label="One motion back" onClick={() => go(getMoment() - 1)}>
        −1
      </Button>
      <Button size="compact-sm" variant="default" aria-label="One motion on" onClick={() => go(getMoment() + 1)}>
        +1
      </Button>
      <Button size="compact-sm" variant="default" onClick={() => go(operationEdge(columns.operation, getMoment(), 1))}>
        Operation end
      </Button>
      <Select
        size="xs"
        w={150}
        aria-label="Stop on"
        value={stopOn}
        allowDeselect={false}
        data={[
          { value: "fault", label: "stop on faults" },
          { value: "attention", label: "stop on attention" },
          { value: "all", label: "stop on all" },
          { value: "none", label: "do not stop" },
        ]}
        onChange={(v) => setStopOn(v as StopOn)}
      />
    </Group>
  );
}

/** The moment in words: time, motion, operation, tool, joints. */
function Readout({ columns: c }: { columns: Block }) {
  const moment = useMoment();
  const ends = c.end_s as Float64Array,
    n = ends.length,
    i = Math.max(0, Math.min(moment, n) - 1);
  const names = c.meta.joints as string[];
  const value = (v: number) => (Number.isNaN(v) ? "–" : v.toFixed(2).replace("-", "−"));
  const values = names.map((name, k) => `${name} ${value(c.joints[names.length * i + k] as number)}`);
  return (
    <div className="moment" data-testid="moment">
      {clock(moment ? ends[i] : 0)} of {clock(ends[n - 1])} · motion {Math.min(moment, n)} of {n} · op {c.operation[i]}{" "}
      T{c.tool[i]} · {values.join(" ")}
    </div>
  );
}
