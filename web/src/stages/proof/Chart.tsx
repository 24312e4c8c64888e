import { useComputedColorScheme } from "@mantine/core";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Block, Finding } from "../../api/client";
import { getMoment, useMoment } from "../../job/moment";
import { motionAt, operationEdge } from "../../job/playing";
import { clock } from "../../theme";

type Lane = {
  name: string;
  key: "rate" | "engagement" | "feed" | "clearance";
  unit: string;
  light: string;
  dark: string;
};

const LANES: Lane[] = [
  { name: "removal", key: "rate", unit: "mm³/s", light: "#6d2f6b", dark: "#c58fc2" },
  { name: "engagement", key: "engagement", unit: "°", light: "#1f7a6d", dark: "#52b8a6" },
  { name: "feed", key: "feed", unit: "mm/min", light: "#8f5c12", dark: "#d3a252" },
  { name: "clearance", key: "clearance", unit: "mm", light: "#5d646b", dark: "#a2a9b0" },
];

const NO_TARGETS: Record<number, number> = {};

export function Chart({
  columns: c,
  findings,
  targets = NO_TARGETS,
  onSeek,
}: {
  columns: Block;
  findings: Finding[];
  /** Engagement that rows hold, by their number. */
  targets?: Record<number, number>;
  onSeek: (motion: number) => void;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ w: 800, h: 120 });
  const scheme = useComputedColorScheme("light");
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
      g.fillStyle = l[scheme];
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
    // What rows hold stands as a line over their stretch of the engagement.
    const at = LANES.findIndex((l) => l.key === "engagement"),
      { top } = peaks[at];
    for (let i = 0, from = 0; i < ends.length; i++) {
      if (i + 1 < ends.length && c.operation?.[i + 1] === c.operation?.[from]) continue;
      const target = targets[c.operation?.[from] as number];
      if (target !== undefined) {
        const x = (w * (from ? ends[from - 1] : 0)) / total;
        g.fillStyle = style.color;
        g.fillRect(
          x,
          (at + 1) * lane - 1 - (Math.min(target, top) / top) * (lane - 16),
          (w * ends[i]) / total - x,
          1.5,
        );
      }
      from = i + 1;
    }
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
  }, [c, peaks, findings, targets, size, scheme]);
  const seek = (e: React.PointerEvent) => {
    const box = canvas.current!.getBoundingClientRect(),
      ends = c.end_s as Float64Array;
    onSeek(motionAt(ends, ((e.clientX - box.left) / box.width) * ends[ends.length - 1]));
  };
  const moment = useMoment(),
    n = c.end_s.length,
    at = moment ? c.end_s[Math.min(moment, n) - 1] : 0;
  const byKey = (e: React.KeyboardEvent) => {
    const now = getMoment();
    const to: Record<string, number> = {
      ArrowLeft: now - 1,
      ArrowRight: now + 1,
      PageUp: operationEdge(c.operation, now, -1),
      PageDown: operationEdge(c.operation, now, 1),
      Home: 0,
      End: n,
    };
    if (!(e.key in to)) return;
    e.preventDefault();
    onSeek(Math.max(0, Math.min(to[e.key], n)));
  };
  return (
    <div
      className="chart"
      role="slider"
      tabIndex={0}
      aria-label="Moment of the proof"
      aria-valuemin={0}
      aria-valuemax={Math.round(c.end_s[n - 1] ?? 0)}
      aria-valuenow={Math.round(at)}
      aria-valuetext={`${clock(at)}, motion ${Math.min(moment, n)} of ${n}`}
      onKeyDown={byKey}
    >
      <canvas
        ref={canvas}
        data-testid="chart"
        style={{ position: "absolute", inset: 0, cursor: "crosshair" }}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          seek(e);
        }}
        onPointerMove={(e) => e.buttons && seek(e)}
      />
      <Hand columns={c} width={size.w} />
    </div>
  );
}

/** Where on the chart the moment is. */
function Hand({ columns, width }: { columns: Block; width: number }) {
  const moment = useMoment(),
    ends = columns.end_s as Float64Array;
  const at = (width * (moment ? ends[Math.min(moment, ends.length) - 1] : 0)) / (ends[ends.length - 1] || 1);
  return <div aria-hidden className="hand" style={{ transform: `translateX(${at}px)` }} />;
}
