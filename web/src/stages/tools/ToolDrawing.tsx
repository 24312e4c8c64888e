import type { Tool } from "../../job/document";
import { useOutline } from "../../job/queries";

const FILLS: Record<string, string> = { cutter: "#c9b26a", neck: "#b4b8bc", shank: "#a4abb2", holder: "#6b7278" };

/** The tool drawn to scale with its main dimensions. */
export function ToolDrawing({ tool }: { tool: Tool }) {
  const bodies = useOutline(tool).data;
  if (!bodies) return <div style={{ aspectRatio: "290 / 216" }} />;
  const tall = Math.max(...bodies.flatMap((b) => b.points.map((p) => p[1]))),
    wide = Math.max(...bodies.flatMap((b) => b.points.map((p) => p[0])));
  const k = Math.min(190 / tall, 56 / wide),
    x = 110,
    y = 206;
  return (
    <svg
      viewBox="0 0 290 216"
      width="100%"
      role="img"
      aria-label={`Tool ${tool.number} drawn to scale: diameter ${tool.cutter.diameter_mm} mm, stick-out ${tool.stick_out_mm} mm`}
      data-testid="tool-drawing"
    >
      {bodies.map((b, i) => {
        const right = b.points.map(([r, z]) => `${x + r * k},${y - z * k}`),
          left = [...b.points].reverse().map(([r, z]) => `${x - r * k},${y - z * k}`);
        return (
          <polygon
            key={i}
            points={[...right, ...left].join(" ")}
            fill={FILLS[b.name]}
            stroke="#3b4046"
            strokeWidth={0.8}
          />
        );
      })}
      <line
        x1={x}
        x2={x}
        y1={y + 6}
        y2={y - tall * k - 4}
        stroke="currentColor"
        strokeWidth={0.5}
        strokeDasharray="8 3 2 3"
      />
      {[
        ["cutting length", tool.cutter.flute_length_mm, 182],
        ["stick-out", tool.stick_out_mm, 226],
        ["length", tall, 270],
      ].map(([label, v, at]) => (
        <g key={label as string} stroke="currentColor" fill="currentColor">
          <line x1={at as number} x2={at as number} y1={y} y2={y - (v as number) * k} strokeWidth={0.7} />
          <line x1={(at as number) - 4} x2={(at as number) + 4} y1={y} y2={y} strokeWidth={0.7} />
          <line
            x1={(at as number) - 4}
            x2={(at as number) + 4}
            y1={y - (v as number) * k}
            y2={y - (v as number) * k}
            strokeWidth={0.7}
          />
          <text
            x={(at as number) - 4}
            y={y - 4}
            fontSize={11}
            stroke="none"
            transform={`rotate(-90 ${(at as number) - 4} ${y - 4})`}
          >
            {label} {Math.round((v as number) * 100) / 100}
          </text>
        </g>
      ))}
      <text x={x} y={y + 9} fontSize={11} textAnchor="middle" fill="currentColor">
        ⌀{tool.cutter.diameter_mm}
      </text>
    </svg>
  );
}
