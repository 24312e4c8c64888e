import { Button, Group, Select, Switch, Text, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { NumberField } from "../forms/NumberField";
import { toolLabel, type Cutter, type HolderSection, type Tool } from "../job/document";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { contours } from "../viewport/ToolBody";

const fresh = (number: number): Tool => ({
  number, name: "", cutter: { kind: "flat", diameter_mm: 10, flute_length_mm: 25, flutes: 3, centre_cutting: true }, shank_diameter_mm: null, stick_out_mm: 40,
  holder: [{ lower_diameter_mm: 24, upper_diameter_mm: 30, height_mm: 30 }], spindle_rpm: 8000, cutting_feed_mm_min: 1200, entry_feed_mm_min: 400, exit_feed_mm_min: 2500, coolant: true,
});

/** One tool: cutter, shank, holder and what it is run at, drawn to scale as it is typed. */
export function ToolSheet() {
  const job = useJob();
  const view = useView();
  const tool = job.doc.tools.find((t) => t.number === view.tool) ?? job.doc.tools[0];
  const add = async () => {
    const number = Math.max(0, ...job.doc.tools.map((t) => t.number)) + 1;
    if (!(await job.edit([{ op: "add", path: "tools", value: fresh(number) }], "add tool"))) view.set({ tool: number });
  };
  return (
    <>
      <Group mb={10}><Button size="xs" variant="default" onClick={add}>Add a tool</Button></Group>
      {tool ? <ToolForm key={tool.number} tool={tool} /> : <Text className="faint">No tools yet. Add the first one.</Text>}
    </>
  );
}

function ToolForm({ tool }: { tool: Tool }) {
  const job = useJob();
  const [draft, setDraft] = useState(tool);
  const [speed, setSpeed] = useState<number | null>(null);
  const [name, setName] = useState(tool.name);
  useEffect(() => { setDraft(tool); setName(tool.name); }, [tool]);
  const at = `tools/${tool.number}`;
  const put = (field: keyof Tool, value: unknown) => job.edit([{ path: `${at}/${field}`, value, was: tool[field] }], `tool ${tool.number}`);
  const cut = (change: Partial<Cutter>) => put("cutter", { ...tool.cutter, ...change });
  const kind = (k: string | null) => {
    const c = { ...tool.cutter, kind: k } as Cutter;
    if (k === "bull-nose") c.corner_radius_mm = Math.round(tool.cutter.diameter_mm * 10) / 100; else delete c.corner_radius_mm;
    return put("cutter", c);
  };
  const c = tool.cutter;
  const vc = (Math.PI * c.diameter_mm * tool.spindle_rpm) / 1000, fz = tool.cutting_feed_mm_min / (tool.spindle_rpm * c.flutes);
  const num = (label: string, field: keyof Tool, unit: string, max: number) => (
    <NumberField label={label} unit={unit} value={tool[field] as number} range={{ above: 0, max }} onDraft={(v) => setDraft({ ...draft, [field]: v })} onCommit={(v) => put(field, v)} />
  );
  const section = (k: number, change: Partial<HolderSection>) => put("holder", tool.holder.map((h, i) => (i === k ? { ...h, ...change } : h)));
  return (
    <>
      <ToolDrawing tool={draft} />
      <fieldset>
        <legend>T{tool.number} · cutter</legend>
        <div className="two">
          <Select size="xs" label="End" allowDeselect={false} data={["flat", "ball", "bull-nose"]} value={c.kind} onChange={kind} />
          <NumberField label="Diameter" unit="mm" value={c.diameter_mm} range={{ above: 0, max: 500 }} onDraft={(v) => setDraft({ ...draft, cutter: { ...draft.cutter, diameter_mm: v } })} onCommit={(v) => cut({ diameter_mm: v! })} />
          {c.kind === "bull-nose" && <NumberField label="Corner radius" unit="mm" value={c.corner_radius_mm ?? 0} range={{ above: 0, max: c.diameter_mm / 2 }} onDraft={(v) => setDraft({ ...draft, cutter: { ...draft.cutter, corner_radius_mm: v } })} onCommit={(v) => cut({ corner_radius_mm: v! })} />}
          <NumberField label="Cutting length" unit="mm" value={c.flute_length_mm} range={{ above: 0, max: 1000 }} onDraft={(v) => setDraft({ ...draft, cutter: { ...draft.cutter, flute_length_mm: v } })} onCommit={(v) => cut({ flute_length_mm: v! })} />
          <NumberField label="Flutes" value={c.flutes} range={{ min: 1, max: 40 }} onCommit={(v) => cut({ flutes: Math.round(v!) })} />
          <Switch size="xs" mt={22} label="Centre cutting" checked={c.centre_cutting} onChange={(e) => cut({ centre_cutting: e.currentTarget.checked })} />
        </div>
      </fieldset>
      <fieldset>
        <legend>Shank and holder</legend>
        <div className="two">
          {num("Stick-out", "stick_out_mm", "mm", 2000)}
          <NumberField label="Shank diameter" unit="mm" optional placeholder="as the cutter" value={tool.shank_diameter_mm} range={{ above: 0, max: 500 }} onDraft={(v) => setDraft({ ...draft, shank_diameter_mm: v })} onCommit={(v) => put("shank_diameter_mm", v)} />
        </div>
        {tool.holder.map((h, k) => (
          <Group key={k} gap={6} wrap="nowrap" align="end" mt={6}>
            <NumberField label="Lower ⌀" unit="mm" value={h.lower_diameter_mm} range={{ above: 0, max: 1000 }} onCommit={(v) => section(k, { lower_diameter_mm: v! })} />
            <NumberField label="Upper ⌀" unit="mm" value={h.upper_diameter_mm} range={{ above: 0, max: 1000 }} onCommit={(v) => section(k, { upper_diameter_mm: v! })} />
            <NumberField label="Height" unit="mm" value={h.height_mm} range={{ above: 0, max: 2000 }} onCommit={(v) => section(k, { height_mm: v! })} />
            <Button size="compact-xs" variant="default" aria-label={`Remove holder section ${k + 1}`} onClick={() => put("holder", tool.holder.filter((_, i) => i !== k))}>×</Button>
          </Group>
        ))}
        <Button size="compact-xs" variant="default" mt={8} onClick={() => put("holder", [...tool.holder, { lower_diameter_mm: 30, upper_diameter_mm: 40, height_mm: 25 }])}>Add a holder section</Button>
      </fieldset>
      <fieldset>
        <legend>Speeds and feeds</legend>
        <div className="two">
          {num("Spindle speed", "spindle_rpm", "rpm", 200000)}
          {num("Cutting feed", "cutting_feed_mm_min", "mm/min", 100000)}
          {num("Entry feed", "entry_feed_mm_min", "mm/min", 100000)}
          {num("Exit feed", "exit_feed_mm_min", "mm/min", 100000)}
          <NumberField label="From surface speed" unit="m/min" value={Math.round((speed ?? vc) * 10) / 10} range={{ above: 0 }} onCommit={(v) => { setSpeed(null); return put("spindle_rpm", Math.round((1000 * v!) / (Math.PI * c.diameter_mm))); }} />
          <NumberField label="From chip load" unit="mm" value={Math.round(fz * 1e4) / 1e4} range={{ above: 0 }} onCommit={(v) => put("cutting_feed_mm_min", Math.round(tool.spindle_rpm * c.flutes * v!))} />
        </div>
        <Switch size="xs" mt={10} label="Coolant" checked={tool.coolant} onChange={(e) => put("coolant", e.currentTarget.checked)} />
      </fieldset>
      <details><summary>More</summary>
        <TextInput size="xs" label="Name" value={name} placeholder={toolLabel({ ...tool, name: "" })} onChange={(e) => setName(e.currentTarget.value)} onBlur={() => name !== tool.name && put("name", name)} />
        <Button mt={8} size="compact-xs" variant="default" onClick={() => job.edit([{ op: "remove", path: at }], "remove tool")}>Remove this tool</Button>
      </details>
    </>
  );
}

const FILLS = { cutter: "#c9b26a", shank: "#a4abb2", holder: "#6b7278" };

/** The tool drawn to scale with its main dimensions. */
function ToolDrawing({ tool }: { tool: Tool }) {
  const bodies = contours(tool);
  const tall = Math.max(...bodies.flatMap((b) => b.points.map((p) => p[1]))), wide = Math.max(...bodies.flatMap((b) => b.points.map((p) => p[0])));
  const k = Math.min(190 / tall, 56 / wide), x = 110, y = 206;
  return (
    <svg viewBox="0 0 290 216" width="100%" role="img" aria-label={`Tool ${tool.number} drawn to scale: diameter ${tool.cutter.diameter_mm} mm, stick-out ${tool.stick_out_mm} mm`} data-testid="tool-drawing">
      {bodies.map((b, i) => {
        const right = b.points.map(([r, z]) => `${x + r * k},${y - z * k}`), left = [...b.points].reverse().map(([r, z]) => `${x - r * k},${y - z * k}`);
        return <polygon key={i} points={[...right, ...left].join(" ")} fill={FILLS[b.name]} stroke="#3b4046" strokeWidth={0.8} />;
      })}
      <line x1={x} x2={x} y1={y + 6} y2={y - tall * k - 4} stroke="currentColor" strokeWidth={0.5} strokeDasharray="8 3 2 3" />
      {[["cutting length", tool.cutter.flute_length_mm, 182], ["stick-out", tool.stick_out_mm, 226], ["length", tall, 270]].map(([label, v, at]) => (
        <g key={label as string} stroke="currentColor" fill="currentColor">
          <line x1={at as number} x2={at as number} y1={y} y2={y - (v as number) * k} strokeWidth={0.7} />
          <line x1={(at as number) - 4} x2={(at as number) + 4} y1={y} y2={y} strokeWidth={0.7} /><line x1={(at as number) - 4} x2={(at as number) + 4} y1={y - (v as number) * k} y2={y - (v as number) * k} strokeWidth={0.7} />
          <text x={(at as number) - 4} y={y - 4} fontSize={11} stroke="none" transform={`rotate(-90 ${(at as number) - 4} ${y - 4})`}>{label} {Math.round((v as number) * 100) / 100}</text>
        </g>
      ))}
      <text x={x} y={y + 9} fontSize={11} textAnchor="middle" fill="currentColor">⌀{tool.cutter.diameter_mm}</text>
    </svg>
  );
}

/** All tools of the job. */
export function ToolBench() {
  const job = useJob();
  const view = useView();
  return (
    <div className="scroll">
      <table className="dense">
        <thead><tr><th className="n">No.</th><th>Tool</th><th>End</th><th className="n">⌀ mm</th><th className="n">Corner</th><th className="n">Cutting length</th><th className="n">Stick-out</th><th className="n">Flutes</th><th className="n">rpm</th><th className="n">Feed</th><th>Used by</th></tr></thead>
        <tbody>
          {job.doc.tools.map((t) => (
            <tr key={t.number} aria-selected={t.number === view.tool} tabIndex={0} onClick={() => view.set({ tool: t.number })} onKeyDown={(e) => e.key === "Enter" && view.set({ tool: t.number })}>
              <td className="n">T{t.number}</td><td>{toolLabel(t)}</td><td>{t.cutter.kind}</td><td className="n">{t.cutter.diameter_mm}</td><td className="n">{t.cutter.corner_radius_mm ?? "–"}</td>
              <td className="n">{t.cutter.flute_length_mm}</td><td className="n">{t.stick_out_mm}</td><td className="n">{t.cutter.flutes}</td><td className="n">{t.spindle_rpm}</td><td className="n">{t.cutting_feed_mm_min}</td>
              <td>{job.doc.operations.filter((o) => o.tool === t.number).map((o) => o.number).join(", ") || "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
