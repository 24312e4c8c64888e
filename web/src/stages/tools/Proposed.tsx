import { Button, Text } from "@mantine/core";
import type { Tool } from "../../job/document";
import { useSpeeds } from "../../job/queries";
import { useJob } from "../../job/useJob";

/** What the load proposes, each number with the limit that bound it, and warnings for what is set. */
export function Proposed({ tool }: { tool: Tool }) {
  const job = useJob();
  const query = useSpeeds(tool.number, true);
  if (!job.doc.material)
    return (
      <Text className="faint" mb={6}>
        Choose the material above, and speeds are proposed here.
      </Text>
    );
  if (!query.data) return query.error ? <Text className="fault">{query.error.message}</Text> : null;
  const { proposal: p, warnings } = query.data;
  const use = () =>
    job.edit(
      [
        { path: `tools/${tool.number}/spindle_rpm`, value: p.spindle_rpm.taken, was: tool.spindle_rpm },
        {
          path: `tools/${tool.number}/cutting_feed_mm_min`,
          value: p.cutting_feed_mm_min.taken,
          was: tool.cutting_feed_mm_min,
        },
      ],
      "proposed speeds",
    );
  const rows: [string, { value: number; unit: string; bound?: string }, number][] = [
    ["Spindle speed", p.spindle_rpm, 0],
    ["Cutting feed", p.cutting_feed_mm_min, 0],
    ["Chip load", p.chip_load_mm, 3],
    ["Width", p.width_mm, 2],
    ["Depth", p.depth_mm, 2],
    ["Power", p.power_kw, 2],
    ["Torque", p.torque_nm, 1],
    ["Bending", p.bending_mm, 3],
  ];
  return (
    <div data-testid="proposal">
      {Object.values(warnings).map((w) => (
        <div key={w} className="holder-note">
          △ {w}
        </div>
      ))}
      <table className="dense" style={{ marginBottom: 6 }}>
        <thead>
          <tr>
            <th>Proposed</th>
            <th className="n">Value</th>
            <th>Held back by</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, n, d]) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="n">
                {n.value.toFixed(d)} {n.unit}
              </td>
              <td>{n.bound || ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Text className="faint" mb={6}>
        Mean chip {(1000 * p.mean_chip_mm).toFixed(0)} µm, {p.removal_cm3_min.toFixed(1)} cm³/min,{" "}
        {p.force_n.toFixed(0)} N. Data: {p.source}.
      </Text>
      <Button size="compact-xs" variant="default" mb={8} onClick={use}>
        Use these speeds
      </Button>
    </div>
  );
}
