import { Button, Group, Select, Slider, Switch, Tabs, Text, TextInput } from "@mantine/core";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, take, type Schemas } from "../api/client";
import { NumberField } from "../forms/NumberField";
import { PickFile, keptName, withFile } from "../forms/PickFile";
import { SchemaForm, TextField, freshOf, useKinds, useModelSchema } from "../forms/SchemaForm";
import { toolLabel, type Cutter, type HolderSection, type Tool } from "../job/document";
import { useTables } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { contours } from "../viewport/ToolBody";

const fresh = (number: number) => ({
  number,
  cutter: { kind: "flat", diameter_mm: 10, flute_length_mm: 25, flutes: 3 },
  stick_out_mm: 40,
  holder: [{ lower_diameter_mm: 24, upper_diameter_mm: 30, height_mm: 30 }],
});

/** Numbers that a new kind of cutter needs, from the diameter that is there. */
const seedFor = (c: Cutter): Record<string, unknown> => {
  const d = c.diameter_mm,
    r = (v: number) => Math.round(v * 100) / 100;
  return {
    diameter_mm: d,
    flute_length_mm: Math.max(c.flute_length_mm, r(1.2 * d)),
    corner_radius_mm: r(d * 0.1),
    tip_diameter_mm: r(d * 0.1),
    neck_diameter_mm: r(d * 0.55),
    pitch_mm: r(Math.max(d * 0.15, 0.2)),
    pilot_diameter_mm: r(d * 0.4),
    pilot_length_mm: r(d * 0.5),
    flank_radius_mm: r(d * 8),
    widest_at_mm: r(d * 1.1),
    places: [
      [0, 0, 0],
      [d / 2, 0, 0],
      [d / 2, r(1.2 * d), 0],
    ],
  };
};

/** The job's material and load, and one tool: cutter, assembly, what it is run at; drawn to scale as it is typed. */
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
      <MaterialForm />
      <Group mb={10}>
        <Button size="xs" variant="default" onClick={add}>
          Add a tool
        </Button>
      </Group>
      {tool ? (
        <ToolForm key={tool.number} tool={tool} />
      ) : (
        <Text className="faint">No tools yet. Add the first one, or take some from the shop's library below.</Text>
      )}
    </>
  );
}

/** What is cut, and how hard. */
function MaterialForm() {
  const job = useJob();
  const shop = useQuery({ queryKey: ["materials"], queryFn: () => take(api.GET("/api/library/materials")) });
  const groups = (useTables().data as { groups?: Record<string, string> } | undefined)?.groups ?? {};
  const [load, setLoad] = useState(job.doc.load);
  useEffect(() => setLoad(job.doc.load), [job.doc.load]);
  const known = [
    ...job.doc.materials,
    ...(shop.data ?? []).filter((m) => !job.doc.materials.some((d) => d.name === m.name)),
  ];
  const own = job.doc.materials.find((m) => m.name === job.doc.material);
  const choose = (name: string | null) => {
    const taken = shop.data?.find((m) => m.name === name);
    const missing = name && !job.doc.materials.some((m) => m.name === name);
    return job.edit(
      [
        ...(missing ? [{ op: "add" as const, path: "materials", value: taken }] : []),
        { path: "material", value: name ?? "", was: job.doc.material },
      ],
      "material",
    );
  };
  return (
    <fieldset>
      <legend>Material and load</legend>
      <Select
        size="xs"
        aria-label="Material"
        placeholder="Choose the material"
        searchable
        value={job.doc.material || null}
        data={known.map((m) => ({ value: m.name, label: `${m.group} · ${m.name}` }))}
        onChange={choose}
      />
      {own && (
        <Text className="faint" mt={4}>
          {own.group}, {groups[own.group]}: {own.hardness_hb} HB, kc1.1 {own.kc11_n_mm2} N/mm², mc {own.mc}
        </Text>
      )}
      <Group gap={10} mt={6} wrap="nowrap">
        <Text className="faint">cautious</Text>
        <Slider
          style={{ flex: 1 }}
          size="xs"
          min={0}
          max={1}
          step={0.05}
          label={(v) => `${Math.round(100 * v)} %`}
          thumbLabel="Load"
          value={load}
          onChange={setLoad}
          onChangeEnd={(v) => v !== job.doc.load && job.edit([{ path: "load", value: v, was: job.doc.load }], "load")}
        />
        <Text className="faint">hard</Text>
      </Group>
    </fieldset>
  );
}

function ToolForm({ tool }: { tool: Tool }) {
  const job = useJob();
  const view = useView();
  const [draft, setDraft] = useState(tool);
  const [speed, setSpeed] = useState<number | null>(null);
  useEffect(() => setDraft(tool), [tool]);
  const kinds = useKinds("Tool", "cutter");
  const schema = useModelSchema("Tool");
  const tables = useTables().data as
    | {
        threads: { name: string; major_mm: number; pitch_mm: number }[];
        holders: { name: string; sections: HolderSection[]; grips: [number, number]; source: string }[];
      }
    | undefined;
  const at = `tools/${tool.number}`;
  const put = (field: string, value: unknown) =>
    job.edit([{ path: `${at}/${field}`, value, was: tool[field as keyof Tool] }], `tool ${tool.number}`);
  const cut = (change: Record<string, unknown>) => put("cutter", { ...tool.cutter, ...change });
  const kind = (k: string | null) =>
    k && k !== tool.cutter.kind && put("cutter", freshOf(k, kinds[k], seedFor(tool.cutter)));
  const c = tool.cutter;
  const vc = (Math.PI * c.diameter_mm * tool.spindle_rpm) / 1000,
    fz = tool.cutting_feed_mm_min / (tool.spindle_rpm * c.flutes);
  const section = (k: number, change: Partial<HolderSection>) =>
    put(
      "holder",
      tool.holder.map((h, i) => (i === k ? { ...h, ...change } : h)),
    );
  const threads = (
    <Select
      key="thread"
      size="xs"
      label="Thread"
      placeholder="by its pitch"
      clearable
      searchable
      value={(c.thread as string) || null}
      data={tables?.threads.map((t) => t.name) ?? []}
      onChange={(name) => {
        const t = tables?.threads.find((x) => x.name === name);
        return cut(
          t
            ? { thread: t.name, pitch_mm: t.pitch_mm, ...(c.kind === "tap" ? { diameter_mm: t.major_mm } : {}) }
            : { thread: "" },
        );
      }}
    />
  );
  const holder = (name: string | null) => {
    const h = tables?.holders.find((x) => x.name === name);
    if (h)
      job.edit(
        [
          { path: `${at}/holder`, value: h.sections, was: tool.holder },
          { path: `${at}/holder_name`, value: h.name, was: tool.holder_name },
        ],
        "holder",
      );
  };
  const names = (list: string[]) =>
    schema && { properties: Object.fromEntries(list.map((n) => [n, schema.properties[n]])) };
  const draw = (field: string, value: number) => setDraft({ ...draft, [field]: value });
  return (
    <>
      <ToolDrawing tool={draft} />
      <fieldset>
        <legend>T{tool.number} · cutter</legend>
        <Select
          size="xs"
          mb={6}
          label="Kind"
          allowDeselect={false}
          searchable
          data={Object.keys(kinds)}
          value={c.kind}
          onChange={kind}
        />
        <SchemaForm
          schema={kinds[c.kind]}
          value={c}
          skip={["kind", "places"]}
          special={c.thread !== undefined || c.kind === "tap" || c.kind === "thread mill" ? { thread: threads } : {}}
          onDraft={(field, v) => setDraft({ ...draft, cutter: { ...draft.cutter, [field]: v } })}
          onChange={(field, v) => cut({ [field]: v })}
        />
        {c.kind === "own contour" && (
          <Contour
            tool={tool}
            onTake={(places) =>
              put("cutter", {
                ...c,
                places,
                diameter_mm: Math.round(2e6 * Math.max(...places.map((p) => p[0]))) / 1e6,
                flute_length_mm: Math.max(...places.map((p) => p[1])),
              })
            }
          />
        )}
      </fieldset>
      <Differences tool={tool} />
      <fieldset>
        <legend>Shank and holder</legend>
        <SchemaForm
          schema={names(["stick_out_mm", "shank_diameter_mm", "neck_diameter_mm", "neck_length_mm", "length_mm"])}
          folded={["neck_diameter_mm", "neck_length_mm", "length_mm"]}
          value={tool as never}
          onDraft={draw}
          onChange={(field, v) => put(field, v)}
        />
        <StickOut tool={tool} onTake={(v) => put("stick_out_mm", v)} />
        <Select
          size="xs"
          mt={6}
          label="Holder"
          placeholder="own sections"
          searchable
          value={tables?.holders.some((h) => h.name === tool.holder_name) ? tool.holder_name : null}
          data={tables?.holders.map((h) => h.name) ?? []}
          onChange={holder}
          description={tables?.holders.find((h) => h.name === tool.holder_name)?.source}
        />
        <details>
          <summary>Sections</summary>
          {tool.holder.map((h, k) => (
            <Group key={k} gap={6} wrap="nowrap" align="end" mt={6}>
              <NumberField
                label="Lower ⌀"
                unit="mm"
                value={h.lower_diameter_mm}
                range={{ above: 0, max: 1000 }}
                onCommit={(v) => section(k, { lower_diameter_mm: v! })}
              />
              <NumberField
                label="Upper ⌀"
                unit="mm"
                value={h.upper_diameter_mm}
                range={{ above: 0, max: 1000 }}
                onCommit={(v) => section(k, { upper_diameter_mm: v! })}
              />
              <NumberField
                label="Height"
                unit="mm"
                value={h.height_mm}
                range={{ above: 0, max: 2000 }}
                onCommit={(v) => section(k, { height_mm: v! })}
              />
              <Button
                size="compact-xs"
                variant="default"
                aria-label={`Remove holder section ${k + 1}`}
                onClick={() =>
                  put(
                    "holder",
                    tool.holder.filter((_, i) => i !== k),
                  )
                }
              >
                ×
              </Button>
            </Group>
          ))}
          <Button
            size="compact-xs"
            variant="default"
            mt={8}
            onClick={() =>
              put("holder", [...tool.holder, { lower_diameter_mm: 30, upper_diameter_mm: 40, height_mm: 25 }])
            }
          >
            Add a holder section
          </Button>
        </details>
      </fieldset>
      <fieldset>
        <legend>Speeds and feeds</legend>
        <Proposed tool={tool} />
        <SchemaForm
          schema={names(["spindle_rpm", "cutting_feed_mm_min", "entry_feed_mm_min", "exit_feed_mm_min"])}
          value={tool as never}
          onChange={(field, v) => put(field, v)}
        />
        <div className="two">
          <NumberField
            label="From surface speed"
            unit="m/min"
            value={Math.round((speed ?? vc) * 10) / 10}
            range={{ above: 0 }}
            onCommit={(v) => {
              setSpeed(null);
              return put("spindle_rpm", Math.round((1000 * v!) / (Math.PI * c.diameter_mm)));
            }}
          />
          <NumberField
            label="From chip load"
            unit="mm"
            value={Math.round(fz * 1e4) / 1e4}
            range={{ above: 0 }}
            onCommit={(v) => put("cutting_feed_mm_min", Math.round(tool.spindle_rpm * c.flutes * v!))}
          />
        </div>
        <Switch
          size="xs"
          mt={10}
          label="Coolant"
          checked={tool.coolant}
          onChange={(e) => put("coolant", e.currentTarget.checked)}
        />
      </fieldset>
      <details>
        <summary>More</summary>
        <TextField
          label="Name"
          value={tool.name}
          placeholder={toolLabel({ ...tool, name: "" })}
          onCommit={(v) => put("name", v)}
        />
        <SchemaForm
          schema={names(["material", "coating", "use", "length_offset", "diameter_offset"])}
          value={tool as never}
          onChange={(field, v) => put(field, v)}
        />
        <Group gap={6} mt={8}>
          <Button
            size="compact-xs"
            variant="default"
            onClick={async () => {
              try {
                await take(
                  api.POST("/api/jobs/{job_id}/tools/{number}/keep", {
                    params: { path: { job_id: job.id, number: tool.number } },
                  }),
                );
                job.setNote(`T${tool.number} is in the shop's library now.`, true);
              } catch (e) {
                job.setNote((e as Error).message);
              }
            }}
          >
            Keep in the library
          </Button>
          <Button
            size="compact-xs"
            variant="default"
            onClick={() => {
              view.set({ tool: null });
              job.edit([{ op: "remove", path: at }], "remove tool");
            }}
          >
            Remove this tool
          </Button>
        </Group>
      </details>
    </>
  );
}

/** A cutter's contour from a DXF of the job. */
function Contour({ tool, onTake }: { tool: Tool; onTake: (places: [number, number, number][]) => void }) {
  const job = useJob();
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      onTake(
        (await take(
          api.GET("/api/jobs/{job_id}/contour/{name}", { params: { path: { job_id: job.id, name: keptName(file) } } }),
        )) as never,
      );
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <Group gap={8} mt={6}>
      <PickFile accept=".dxf" size="compact-xs" variant="default" onFile={bring}>
        Contour from a DXF
      </PickFile>
      <Text className="faint">{((tool.cutter.places as unknown[]) ?? []).length} places</Text>
    </Group>
  );
}

/** Where the job's tool is not as the shop's. */
function Differences({ tool }: { tool: Tool }) {
  const job = useJob();
  const all = useQuery<Schemas["Differs"][]>({
    queryKey: ["differences", job.id, job.version],
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/differences", { params: { path: { job_id: job.id } } }),
      ) as unknown as Promise<Schemas["Differs"][]>,
  });
  const mine = all.data?.find((d) => d.number === tool.number);
  if (!mine) return null;
  return (
    <details className="fixture">
      <summary>△ Differs from the library in {mine.fields.length}</summary>
      <dl className="facts">
        {mine.fields.map(([field, was, is]) => [
          <dt key={field as string}>{field as string}</dt>,
          <dd key={`${field}v`}>
            {JSON.stringify(was)?.slice(0, 24)} → {JSON.stringify(is)?.slice(0, 24)}
          </dd>,
        ])}
      </dl>
    </details>
  );
}

/** The shortest safe stick-out, from the geometry of the setup. */
function StickOut({ tool, onTake }: { tool: Tool; onTake: (mm: number) => void }) {
  const job = useJob();
  const view = useView();
  const row = job.doc.operations.find((o) => o.tool === tool.number && o.setup === view.setup);
  const offer = useQuery({
    queryKey: ["stick-out", job.id, tool.number, view.setup, job.version],
    enabled: !!job.doc.part && !!view.setup,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/{number}/stick-out", {
          params: {
            path: { job_id: job.id, number: tool.number },
            query: { setup: view.setup, ...(row ? { operation: row.number } : {}) },
          },
        }),
      ),
  });
  if (!offer.data)
    return offer.error ? (
      <Text className="faint" mt={4}>
        {offer.error.message}
      </Text>
    ) : null;
  const need = Math.ceil(offer.data.shortest_mm * 10) / 10,
    lacks = need > tool.stick_out_mm + 1e-6;
  return (
    <Group gap={6} mt={6} data-testid="stick-out">
      <Text className={lacks ? "fault" : "faint"}>
        {lacks ? "△ too short: " : ""}shortest safe {need} mm
        {offer.data.bound === "cutting length" ? " (its cutting length)" : ""}
        {row ? ` for ${row.number}` : ""}
      </Text>
      {Math.abs(need - tool.stick_out_mm) > 0.05 && (
        <Button size="compact-xs" variant="default" onClick={() => onTake(need)}>
          Use it
        </Button>
      )}
    </Group>
  );
}

/** What the load proposes, each number with the limit that bound it, and warnings for what is set. */
function Proposed({ tool }: { tool: Tool }) {
  const job = useJob();
  const view = useView();
  const query = useQuery({
    queryKey: ["speeds", job.id, tool.number, view.setup, job.version],
    enabled: !!job.doc.material,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/tools/{number}/speeds", {
          params: { path: { job_id: job.id, number: tool.number }, query: { setup: view.setup } },
        }),
      ),
  });
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
        { path: `tools/${tool.number}/spindle_rpm`, value: Math.round(p.spindle_rpm.value), was: tool.spindle_rpm },
        {
          path: `tools/${tool.number}/cutting_feed_mm_min`,
          value: Math.round(p.cutting_feed_mm_min.value),
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

const FILLS = { cutter: "#c9b26a", neck: "#b4b8bc", shank: "#a4abb2", holder: "#6b7278" };

/** The tool drawn to scale with its main dimensions. */
function ToolDrawing({ tool }: { tool: Tool }) {
  const bodies = contours(tool);
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

/** The job's own tools, and the shop's library to take from. */
export function ToolBench() {
  const [tab, setTab] = useState<string | null>("job");
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        <Tabs.Tab value="job">In this job</Tabs.Tab>
        <Tabs.Tab value="shop">Shop library</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="job">
        <JobTools />
      </Tabs.Panel>
      <Tabs.Panel value="shop">
        <ShopTools />
      </Tabs.Panel>
    </Tabs>
  );
}

function JobTools() {
  const job = useJob();
  const view = useView();
  const bring = async (file: File) => {
    try {
      await take(
        api.POST("/api/jobs/{job_id}/tools/import", { params: { path: { job_id: job.id } }, ...withFile(file) }),
      );
      job.reload();
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <div className="scroll">
      <Files
        base={`/api/jobs/${job.id}/tools`}
        onBring={bring}
        words={`${job.doc.tools.length} tools; the machine's magazine has room for ${Math.min(...job.doc.machines.map((m) => (m as { magazine_places?: number }).magazine_places ?? 24))}.`}
      />
      <table className="dense" aria-label="Tools of the job">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>Tool</th>
            <th>Kind</th>
            <th className="n">⌀ mm</th>
            <th className="n">Corner</th>
            <th className="n">Cutting length</th>
            <th className="n">Stick-out</th>
            <th className="n">Flutes</th>
            <th>Holder</th>
            <th className="n">rpm</th>
            <th className="n">Feed</th>
            <th className="n">Offsets</th>
            <th>Used by</th>
          </tr>
        </thead>
        <tbody>
          {job.doc.tools.map((t) => (
            <tr
              key={t.number}
              aria-selected={t.number === view.tool}
              tabIndex={0}
              onClick={() => view.set({ tool: t.number })}
              onKeyDown={(e) => e.key === "Enter" && view.set({ tool: t.number })}
            >
              <td className="n">T{t.number}</td>
              <td>{toolLabel(t)}</td>
              <td>{t.cutter.kind}</td>
              <td className="n">{t.cutter.diameter_mm}</td>
              <td className="n">{t.cutter.corner_radius_mm ?? "–"}</td>
              <td className="n">{t.cutter.flute_length_mm}</td>
              <td className="n">{t.stick_out_mm}</td>
              <td className="n">{t.cutter.flutes}</td>
              <td>{t.holder_name || "–"}</td>
              <td className="n">{t.spindle_rpm}</td>
              <td className="n">{t.cutting_feed_mm_min}</td>
              <td className="n">
                H{t.length_offset ?? t.number} D{t.diameter_offset ?? t.number}
              </td>
              <td>
                {job.doc.operations
                  .filter((o) => o.tool === t.number)
                  .map((o) => o.number)
                  .join(", ") || "–"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Files({ base, onBring, words }: { base: string; onBring: (file: File) => void; words: string }) {
  return (
    <Group gap={8} px={8} py={5}>
      <PickFile accept=".json,.csv" size="compact-sm" variant="default" onFile={onBring}>
        Import a list
      </PickFile>
      {["csv", "json"].map((form) => (
        <Button key={form} size="compact-sm" variant="default" component="a" href={`${base}.${form}`}>
          Save as {form.toUpperCase()}
        </Button>
      ))}
      <Text className="faint">{words}</Text>
    </Group>
  );
}

function ShopTools() {
  const job = useJob();
  const view = useView();
  const client = useQueryClient();
  const kinds = Object.keys(useKinds("Tool", "cutter"));
  const [words, setWords] = useState("");
  const [kind, setKind] = useState<string | null>(null);
  const tools = useQuery({
    queryKey: ["shop", words, kind],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/library/tools", { params: { query: { words, kind: kind ?? "" } } })),
  });
  const get = async (number: number) => {
    try {
      const state = await take(
        api.POST("/api/jobs/{job_id}/tools/take", {
          params: { path: { job_id: job.id } },
          body: { numbers: [number] },
        }),
      );
      job.reload();
      const list = (state.document as { tools: Tool[] }).tools;
      view.set({ tool: list[list.length - 1].number });
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  const bring = async (file: File) => {
    try {
      const r = await take(api.POST("/api/library/tools/import", { ...withFile(file) }));
      job.setNote(`${r.tools} tools were read.`, true);
      client.invalidateQueries({ queryKey: ["shop"] });
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <div className="scroll">
      <Group gap={8} px={8} pt={5}>
        <TextInput
          size="xs"
          w={170}
          placeholder="Find: words, number"
          aria-label="Find tools"
          value={words}
          onChange={(e) => setWords(e.currentTarget.value)}
        />
        <Select
          size="xs"
          w={150}
          placeholder="every kind"
          aria-label="Kind of tool"
          clearable
          value={kind}
          data={kinds}
          onChange={setKind}
        />
      </Group>
      <Files base="/api/library/tools" onBring={bring} words={`${tools.data?.length ?? 0} tools`} />
      <table className="dense" aria-label="Shop library">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>Tool</th>
            <th>Kind</th>
            <th className="n">⌀ mm</th>
            <th className="n">Stick-out</th>
            <th>Holder</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {(tools.data as unknown as Tool[] | undefined)?.map((t) => (
            <tr key={t.number}>
              <td className="n">{t.number}</td>
              <td>{toolLabel(t)}</td>
              <td>{t.cutter.kind}</td>
              <td className="n">{t.cutter.diameter_mm}</td>
              <td className="n">{t.stick_out_mm}</td>
              <td>{t.holder_name || "–"}</td>
              <td>
                <Button
                  size="compact-xs"
                  variant="default"
                  aria-label={`Take ${t.number} into the job`}
                  onClick={() => get(t.number)}
                >
                  {job.doc.tools.some((x) => x.number === t.number) ? "Take another" : "Take"}
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
