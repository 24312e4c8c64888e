import { deviationColour } from "../theme";

type Deviation = {
  min_mm: number;
  max_mm: number;
  within_tolerance_fraction: number;
  error_bound_mm: number;
  edges_mm: number[];
  counts: number[];
};

const css = (v: number, band: number) =>
  `rgb(${deviationColour(v, band)
    .map((c) => Math.round(c * 255))
    .join(" ")})`;

/** Legend of the deviation map with its histogram; the band is marked, counts are on a logarithmic scale. */
export function DeviationScale({ deviation: d, band }: { deviation: Deviation; band: number }) {
  const n = d.counts.length,
    h = 3,
    top = Math.log1p(Math.max(...d.counts, 1));
  return (
    <figure
      className="scale"
      style={{ margin: 0 }}
      aria-label={`Deviation from ${d.min_mm.toFixed(3)} to ${d.max_mm.toFixed(3)} mm`}
    >
      <figcaption style={{ marginBottom: 4 }}>Deviation, mm</figcaption>
      <svg width={168} height={n * h + 10} role="img" aria-hidden>
        {d.counts.map((c, i) => {
          const y = (n - 1 - i) * h + 5,
            middle = (d.edges_mm[i] + d.edges_mm[i + 1]) / 2;
          return (
            <g key={i}>
              <rect x={50} y={y} width={14} height={h} fill={css(middle, band)} />
              <rect x={68} y={y} width={(92 * Math.log1p(c)) / top} height={h - 1} fill="#7d848b" />
            </g>
          );
        })}
        {[-5, -1, 0, 1, 5].map((k) => {
          const y = ((5 - k) / 10) * n * h + 5;
          return (
            <g key={k}>
              <text x={44} y={y + 4} textAnchor="end" fontSize={12} fill="currentColor">
                {k === 0 ? "0" : `${k > 0 ? "+" : "−"}${(Math.abs(k) * band).toFixed(2)}`}
              </text>
              {Math.abs(k) === 1 && <line x1={46} x2={164} y1={y} y2={y} stroke="currentColor" strokeDasharray="3 2" />}
            </g>
          );
        })}
      </svg>
      <div>orange: material left · purple: too deep</div>
      <div>
        {(100 * d.within_tolerance_fraction).toFixed(1)} % within ±{band} mm
      </div>
      <div>
        {d.min_mm.toFixed(3).replace("-", "−")} … +{d.max_mm.toFixed(3)} mm, known to ±{d.error_bound_mm.toFixed(3)}
      </div>
    </figure>
  );
}
