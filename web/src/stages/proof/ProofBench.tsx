import { Button, Group, Select, Slider, Text } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { useMoment } from "../../job/moment";
import { useColumns, useProof } from "../../job/queries";
import { useView } from "../../job/view";
import { clock } from "../../theme";
import { Chart } from "./Chart";

/** First motion that ends after a time. */
export function motionAt(ends: Float64Array, seconds: number): number {
  let a = 0,
    b = ends.length;
  while (a < b) {
    const m = (a + b) >> 1;
    if (ends[m] < seconds) a = m + 1;
    else b = m;
  }
  return Math.min(a + 1, ends.length);
}

const SPEEDS = [1, 5, 20, 100, 500];

const TICK_MS = 90;

/** The scrubber: a chart over time with the findings as marks; play, step, stop on findings. */
export function ProofBench() {
  const view = useView();
  const columns = useColumns(view.setup);
  const proof = useProof(view.setup);
  const [playing, setPlaying] = useState(false);
  const [speed, setSpeed] = useState("20");
  const [stopOn, setStopOn] = useState("fault");
  const c = columns.data;
  const moment = useMoment();
  const now = useRef(moment);
  now.current = moment;
  useEffect(() => {
    if (!playing || !c) return;
    const ends = c.end_s as Float64Array;
    const timer = setInterval(() => {
      const here = now.current > 0 ? ends[Math.min(now.current, ends.length) - 1] : 0;
      let next = Math.max(motionAt(ends, here + (Number(speed) * TICK_MS) / 1000), now.current + 1);
      const hit = proof.data?.findings.find(
        (f) =>
          f.motion != null &&
          f.motion + 1 > now.current &&
          f.motion + 1 <= next &&
          (stopOn === "all" || f.severity === stopOn),
      );
      if (hit) {
        next = hit.motion! + 1;
        setPlaying(false);
      }
      if (next >= ends.length) {
        next = ends.length;
        setPlaying(false);
      }
      view.set({ motion: next, deviation: false });
    }, TICK_MS);
    return () => clearInterval(timer);
  }, [playing, c, speed, stopOn, proof.data, view]);
  if (!c)
    return (
      <Text className="faint" p={12}>
        The chart appears when the route has been computed and proved.
      </Text>
    );
  const ends = c.end_s as Float64Array,
    n = ends.length,
    i = Math.max(0, Math.min(moment, n) - 1);
  const operation = c.operation[i];
  const jump = (d: 1 | -1) => {
    let k = i;
    if (d > 0) {
      while (k < n && c.operation[k] === operation) k++;
      return view.set({ motion: Math.min(k === n ? n : k, n) });
    }
    while (k > 0 && c.operation[k - 1] === c.operation[Math.max(i - 1, 0)]) k--;
    view.set({ motion: k });
  };
  return (
    <>
      <Group gap={6} px={10} pt={8} pb={4} wrap="nowrap">
        <Button
          size="compact-sm"
          onClick={() => {
            if (!playing && moment >= n) view.set({ motion: 0 });
            setPlaying(!playing);
          }}
        >
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
        <Button size="compact-sm" variant="default" onClick={() => jump(-1)}>
          Operation start
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          aria-label="One motion back"
          onClick={() => view.set({ motion: Math.max(moment - 1, 0) })}
        >
          −1
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          aria-label="One motion on"
          onClick={() => view.set({ motion: Math.min(moment + 1, n) })}
        >
          +1
        </Button>
        <Button size="compact-sm" variant="default" onClick={() => jump(1)}>
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
          onChange={(v) => setStopOn(v!)}
        />
      </Group>
      <div className="moment" data-testid="moment">
        {clock(moment ? ends[i] : 0)} of {clock(ends[n - 1])} · motion {Math.min(moment, n)} of {n} · op {operation} T
        {c.tool[i]} · X {c.work[3 * i].toFixed(2)} Y {c.work[3 * i + 1].toFixed(2)} Z {c.work[3 * i + 2].toFixed(2)}
      </div>
      <Chart
        columns={c}
        motion={moment}
        findings={proof.data?.findings ?? []}
        onSeek={(m) => view.set({ motion: m })}
      />
      <Slider
        mx={10}
        mb={6}
        size="xs"
        thumbLabel="Moment of the proof"
        min={0}
        max={n}
        value={moment}
        onChange={(v) => view.set({ motion: v })}
        label={null}
      />
    </>
  );
}
