import { Button, Group, SegmentedControl, Select, Slider, Switch, Text } from "@mantine/core";
import { useEffect, useMemo, useRef, useState } from "react";
import { SchemaForm, useModelSchema } from "../forms/SchemaForm";
import type { Block, Finding } from "../api/client";
import { useColumns, useProof } from "../job/queries";
import { useJob } from "../job/useJob";
import { useMoment } from "../job/moment";
import { useView } from "../job/view";
import { clock } from "../theme";

const MARKS: Record<string, string> = { fault: "✕", attention: "△", note: "·" };

type Deviation = { min_mm: number; max_mm: number; within_tolerance_fraction: number };
type Result = { worst_gouge_mm: number; worst_excess_mm: number; peak_engagement_deg: number };

/** Findings, deviation and what the proof holds results against. */
export function ProofSheet() {
  const job = useJob();
  const view = useView();
  const proof = useProof(view.setup);
  const settings = useModelSchema("ProofSettings");
  const state = job.status?.setups.find((s) => s.id === view.setup);
  const p = proof.data;
  const deviation = p?.deviation as Deviation;
  const results = (p?.by_operation ?? {}) as Record<string, Result | undefined>;
  return (
    <>
      {job.doc.setups.length > 1 && (
        <SegmentedControl
          size="xs"
          mb={10}
          value={view.setup}
          onChange={(v) => view.set({ setup: v, motion: 0 })}
          data={job.doc.setups.map((s) => ({ value: s.id, label: s.name || s.id }))}
        />
      )}
      {state?.proof !== "ready" && (
        <>
          <Text mb={8}>
            {state ? "The proof is out of date." : "There is nothing to prove yet."} {state?.problem}
          </Text>
          {state && (
            <Button size="xs" mb={12} onClick={() => job.compute(view.setup)}>
              Compute and prove
            </Button>
          )}
        </>
      )}
      {p && (
        <>
          <fieldset>
            <legend>Result</legend>
            <Switch
              size="xs"
              mb={10}
              label="Deviation map"
              checked={view.deviation}
              onChange={(e) =>
                view.set({
                  deviation: e.currentTarget.checked,
                  ...(e.currentTarget.checked ? { motion: p.motions } : {}),
                })
              }
            />
            <dl className="facts">
              <dt>Time</dt>
              <dd>{clock(p.time_s)}</dd>
              <dt>Deviation</dt>
              <dd data-testid="deviation">
                {deviation.min_mm.toFixed(3)} … {deviation.max_mm.toFixed(3)} mm
              </dd>
              <dt>Within ±{job.doc.proof.band_mm} mm</dt>
              <dd>{(100 * deviation.within_tolerance_fraction).toFixed(1)} %</dd>
              <dt>Program against path</dt>
              <dd>{(1000 * p.program_vs_path_mm).toFixed(2)} µm</dd>
            </dl>
            <table className="dense">
              <thead>
                <tr>
                  <th className="n">No.</th>
                  <th className="n">Gouge</th>
                  <th className="n">Excess</th>
                  <th className="n">Engaged</th>
                  <th className="n">Time</th>
                </tr>
              </thead>
              <tbody>
                {p.operations_in_order.map((n) => {
                  const r = results[n];
                  return (
                    <tr key={n}>
                      <td className="n">{n}</td>
                      <td className="n">{r?.worst_gouge_mm.toFixed(3)}</td>
                      <td className="n">{r?.worst_excess_mm.toFixed(3)}</td>
                      <td className="n">{r?.peak_engagement_deg.toFixed(0)}°</td>
                      <td className="n">{clock(p.time_by_operation[n])}</td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </fieldset>
          <fieldset>
            <legend>Findings: {p.findings.length || "none"}</legend>
            {p.findings.map((f, k) => (
              <button
                key={k}
                type="button"
                className={`finding ${f.severity}`}
                onClick={() => view.set({ motion: (f.motion ?? 0) + 1, deviation: false })}
              >
                <b>
                  {MARKS[f.severity]} {f.kind}
                </b>
                {f.operation ? ` in ${f.operation}` : ""}
                {f.time_s != null ? ` at ${clock(f.time_s)}` : ""}
                <br />
                {f.message} <span className="faint">{f.advice}</span>
              </button>
            ))}
          </fieldset>
        </>
      )}
      <details>
        <summary>Limits of the proof</summary>
        <SchemaForm
          schema={settings}
          value={job.doc.proof}
          onChange={(field, value, was) => job.edit([{ path: `proof/${field}`, value, was }], "proof limits")}
        />
      </details>
    </>
  );
}

type Lane = { name: string; key: "rate" | "engagement" | "feed" | "clearance"; unit: string; colour: string };
const LANES: Lane[] = [
  { name: "removal", key: "rate", unit: "mm³/s", colour: "#6d2f6b" },
  { name: "engagement", key: "engagement", unit: "°", colour: "#1f7a6d" },
  { name: "feed", key: "feed", unit: "mm/min", colour: "#8f5c12" },
  { name: "clearance", key: "clearance", unit: "mm", colour: "#5d646b" },
];

/** First motion that ends after a time. */
function motionAt(ends: Float64Array, seconds: number): number {
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

function Chart({
  columns: c,
  motion,
  findings,
  onSeek,
}: {
  columns: Block;
  motion: number;
  findings: Finding[];
  onSeek: (motion: number) => void;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ w: 800, h: 120 });
  useEffect(() => {
    const el = canvas.current!.parentElement!;
    const watch = new ResizeObserver(() => setSize({ w: el.clientWidth, h: el.clientHeight }));
    watch.observe(el);
    return () => watch.disconnect();
  }, []);
  const peaks = useMemo(() => {
    const ends = c.end_s as Float64Array,
      total = ends[ends.length - 1] || 1,
      w = Math.max(size.w, 50);
    return LANES.map(({ key }) => {
      const out = new Float32Array(w).fill(key === "clearance" ? Infinity : 0);
      let top = 1e-9;
      if (key === "rate") {
        // Volume of each pixel's stretch of time over that time; single motions are too short to mean anything.
        const slice = total / w;
        for (let i = 0; i < ends.length; i++) {
          const from = i ? ends[i - 1] : 0,
            a = Math.min(Math.floor(from / slice), w - 1),
            b = Math.min(Math.floor(ends[i] / slice), w - 1);
          for (let x = a; x <= b; x++)
            out[x] += (c.rate[i] * Math.max(0, Math.min(ends[i], (x + 1) * slice) - Math.max(from, x * slice))) / slice;
        }
        for (const v of out) if (v > top) top = v;
        return { out, top };
      }
      for (let i = 0; i < ends.length; i++) {
        const a = Math.floor((w * (i ? ends[i - 1] : 0)) / total),
          b = Math.min(Math.floor((w * ends[i]) / total), w - 1),
          v = c[key][i];
        for (let x = a; x <= b; x++) out[x] = key === "clearance" ? Math.min(out[x], v) : Math.max(out[x], v);
        if (v > top) top = v;
      }
      return { out, top };
    });
  }, [c, size.w]);
  useEffect(() => {
    const el = canvas.current!,
      g = el.getContext("2d")!,
      { w, h } = size;
    el.width = w;
    el.height = h;
    const style = getComputedStyle(el),
      lane = h / LANES.length,
      ends = c.end_s as Float64Array,
      total = ends[ends.length - 1] || 1;
    g.font = "12px 'Source Sans 3 Variable', sans-serif";
    LANES.forEach((l, k) => {
      const { out, top } = peaks[k],
        base = (k + 1) * lane - 1;
      g.fillStyle = l.colour;
      g.globalAlpha = 0.75;
      for (let x = 0; x < out.length; x++) {
        const v = Number.isFinite(out[x]) ? (out[x] / top) * (lane - 16) : 0;
        g.fillRect(x, base - v, 1, v);
      }
      g.globalAlpha = 1;
      g.fillStyle = style.color;
      g.fillText(`${l.name}, up to ${top >= 100 ? top.toFixed(0) : top.toFixed(1)} ${l.unit}`, 8, k * lane + 12);
      g.globalAlpha = 0.25;
      g.fillRect(0, base, w, 1);
      g.globalAlpha = 1;
    });
    for (const f of findings) {
      if (f.time_s == null) continue;
      const x = (w * f.time_s) / total;
      g.fillStyle = f.severity === "fault" ? "#a8324a" : "#b7791f";
      g.beginPath();
      g.moveTo(x, 0);
      g.lineTo(x - 5, 9);
      g.lineTo(x + 5, 9);
      g.fill();
      g.fillRect(x - 0.5, 9, 1, h);
    }
  }, [c, peaks, findings, size]);
  const ends = c.end_s as Float64Array;
  const now = (size.w * (motion ? ends[Math.min(motion, ends.length) - 1] : 0)) / (ends[ends.length - 1] || 1);
  const seek = (e: React.PointerEvent) => {
    const box = canvas.current!.getBoundingClientRect(),
      ends = c.end_s as Float64Array;
    onSeek(motionAt(ends, ((e.clientX - box.left) / box.width) * ends[ends.length - 1]));
  };
  return (
    <div style={{ flex: 1, minHeight: 0, margin: "0 10px 4px", position: "relative" }}>
      <canvas
        ref={canvas}
        data-testid="chart"
        role="img"
        aria-label="Removal, engagement, feed and clearance over time"
        style={{ position: "absolute", inset: 0, cursor: "crosshair" }}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          seek(e);
        }}
        onPointerMove={(e) => e.buttons && seek(e)}
      />
      <div
        aria-hidden
        style={{
          position: "absolute",
          top: 0,
          bottom: 0,
          width: 2,
          left: -1,
          background: "currentColor",
          transform: `translateX(${now}px)`,
          pointerEvents: "none",
        }}
      />
    </div>
  );
}
