import { Button, Group, Menu, SegmentedControl, Select, Tabs, Text, TextInput, Tooltip } from "@mantine/core";
import { useEffect, useState } from "react";
import { readNumber } from "../forms/NumberField";
import { SchemaForm, freshOf, useKinds, useModelSchema, type ModelSchema } from "../forms/SchemaForm";
import { toolLabel, type FaceSelector, type Operation, type Params, type Tool } from "../job/document";
import { useCoverage, usePart, usePath } from "../job/queries";
import { useJob, type Edit } from "../job/useJob";
import { useView } from "../job/view";
import { clock } from "../theme";
import { HoleTable } from "./HoleTable";
import { FENCES, RouteGeometry } from "./RouteGeometry";
import { LeftOver, OrderOffer, RouteProposal } from "./RouteProposal";

const FOLDED = [
  "top_mm",
  "bottom_mm",
  "flat_levels",
  "milling",
  "entry",
  "ramp_deg",
  "helix_percent",
  "overlap_mm",
  "tolerance_mm",
  "floor_allowance_mm",
  "top_from",
  "bottom_from",
  "full_width",
  "direction_deg",
  "corner_mm",
  "order",
  "lead_percent",
  "lead_deg",
  "repeats",
  "corners",
  "start",
  "tabs",
  "tab_length_mm",
  "tab_height_mm",
  "added_mm",
  "start_gap_mm",
  "gap_below_mm",
  "gap_beside_mm",
  "next_peck_percent",
  "least_peck_mm",
  "start_x_mm",
  "start_y_mm",
  "finish_turns",
  "wear_mm",
  "run_out_mm",
  "taper_ratio",
  "hand",
];
/** Parameters that are picked or have a part of the sheet of their own. */
const APART: string[] = ["strategy", "boundary", "targets", "top_pick", "bottom_pick", ...FENCES.map(([name]) => name)];
/** Strategies by what they are for, as they declare it themselves. */
function groupsOf(kinds: Record<string, ModelSchema>): [string, string[]][] {
  const groups = new Map<string, string[]>();
  const inOrder = Object.entries(kinds).sort(([, a], [, b]) => (a.order ?? 0) - (b.order ?? 0));
  for (const [name, schema] of inOrder)
    groups.set(schema.group ?? "", [...(groups.get(schema.group ?? "") ?? []), name]);
  return [...groups];
}

/** The tool of a job whose cutter suits a strategy best. */
function toolFor(tools: Tool[], schema: ModelSchema | undefined): Tool {
  for (const kind of schema?.cutters ?? []) {
    const found = tools.find((t) => t.cutter.kind === kind);
    if (found) return found;
  }
  return tools[0];
}

const r2 = (v: number) => Math.round(v * 100) / 100;

function freshParams(strategy: string, schema: ModelSchema | undefined, diameter: number): Record<string, unknown> {
  const seed = { stepdown_mm: r2(diameter * 0.4), stepover_mm: r2(diameter * 0.4) };
  if (strategy === "level roughing")
    return { strategy, ...seed, allowance_mm: 0.3, floor_allowance_mm: 0.2, tolerance_mm: 0.05 };
  if (strategy === "parallel finishing")
    return { strategy, stepover_mm: r2(Math.max(diameter * 0.08, 0.05)), direction_deg: 0, tolerance_mm: 0.01 };
  const made = schema ? freshOf(strategy, schema, seed, "strategy") : { strategy };
  return schema?.properties.stepdown_mm && !["facing", "engraving", "bore milling"].includes(strategy)
    ? { ...made, stepdown_mm: seed.stepdown_mm }
    : made;
}

/** The form of the selected row, or the way to add one. */
export function RouteSheet() {
  const job = useJob();
  const view = useView();
  const kinds = useKinds("Operation", "params");
  const [proposing, setProposing] = useState(false);
  const busy = job.doc.setups.filter((s) => job.doc.operations.some((o) => o.setup === s.id && o.enabled));
  const selected = job.doc.operations.filter((o) => view.rows.includes(o.number));
  const add = async (strategy: string) => {
    const last = Math.max(0, ...job.doc.operations.map((o) => o.number));
    const number = Math.floor(last / 10) * 10 + 10;
    const tool = toolFor(job.doc.tools, kinds[strategy]);
    const value = {
      number,
      name: "",
      setup: view.setup,
      tool: tool.number,
      params: freshParams(strategy, kinds[strategy], tool.cutter.diameter_mm),
    };
    if (!(await job.edit([{ op: "add", path: "operations", value }], `add ${strategy}`))) view.set({ rows: [number] });
  };
  const ready = job.doc.part && job.doc.setups.length > 0 && job.doc.tools.length > 0;
  return (
    <>
      <Group gap={8} mb={12}>
        <Menu>
          <Menu.Target>
            <Button size="xs" variant={job.doc.operations.length ? "default" : "filled"} disabled={!ready}>
              Add an operation
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            {groupsOf(kinds).map(([title, own]) => [
              <Menu.Label key={title}>{title}</Menu.Label>,
              ...own.map((s) => (
                <Menu.Item key={s} onClick={() => add(s)}>
                  {s}
                </Menu.Item>
              )),
            ])}
          </Menu.Dropdown>
        </Menu>
        <Button
          size="xs"
          variant="default"
          disabled={!job.doc.part || !view.setup}
          onClick={() => {
            view.set({ rows: [] });
            setProposing(true);
          }}
        >
          Propose a route
        </Button>
        <Button
          size="xs"
          disabled={!job.doc.operations.some((o) => o.setup === view.setup && o.enabled)}
          onClick={() => job.compute(view.setup)}
        >
          Compute and prove
        </Button>
        {busy.length > 1 && (
          <Button size="xs" variant="default" onClick={() => busy.forEach((s) => job.compute(s.id))}>
            All {busy.length} setups
          </Button>
        )}
      </Group>
      {!ready && (
        <Text className="faint">
          A route needs a part, a setup and a tool. The rail at the left shows what is missing.
        </Text>
      )}
      {proposing && <RouteProposal onClose={() => setProposing(false)} />}
      {!proposing && selected.length === 0 && <OrderOffer />}
      {selected.length === 1 && <OperationForm key={selected[0].number} operation={selected[0]} />}
      {selected.length > 1 && <ManyForm operations={selected} />}
      {selected.length === 0 && ready && !proposing && (
        <Text className="faint">Select a row of the route sheet to edit it and to see its path.</Text>
      )}
    </>
  );
}

function OperationForm({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const view = useView();
  const schema = useKinds("Operation", "params")[o.params.strategy];
  const [name, setName] = useState(o.name);
  useEffect(() => setName(o.name), [o.name]);
  const at = `operations/${o.number}`;
  const put = (field: string, value: unknown, was: unknown) =>
    job.edit([{ path: `${at}/${field}`, value, was }], `${o.number} ${field}`);
  const state = job.status?.operations.find((s) => s.number === o.number);
  const p = o.params as Params & {
    scallop_mm?: number | null;
    stepover_mm?: number | null;
    boundary?: { kind: string; faces?: FaceSelector[]; sketch?: string };
  };
  const grid = job.doc.setups.find((s) => s.id === o.setup)?.grid as
    { columns: number; rows: number } | null | undefined;
  const byScallop = "scallop_mm" in p && p.scallop_mm != null;
  const pickFaces = view.picking === "boundary";
  const change = (field: string, value: unknown, was: unknown) => put(`params/${field}`, value, was);
  return (
    <>
      <Text fw={600} mb={4}>
        {o.number} · {o.params.strategy}
      </Text>
      {state && (
        <Text mb={8} className={state.state === "failed" ? "fault" : "faint"}>
          {state.state}
          {state.reason && `: ${state.reason}`}
        </Text>
      )}
      <Unreached number={o.number} />
      <fieldset>
        <TextInput
          size="xs"
          label="What it does"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          onBlur={() => name !== o.name && put("name", name, o.name)}
        />
        <Select
          size="xs"
          mt={6}
          label="Tool"
          allowDeselect={false}
          value={String(o.tool)}
          data={job.doc.tools.map((t) => ({ value: String(t.number), label: `T${t.number} ${toolLabel(t)}` }))}
          onChange={(v) => put("tool", Number(v), o.tool)}
        />
        {grid && (
          <Select
            size="xs"
            mt={6}
            label="Copies"
            allowDeselect={false}
            value={String(o.instance ?? "")}
            data={[
              { value: "", label: "all together" },
              ...Array.from({ length: grid.columns * grid.rows }, (_, k) => ({
                value: String(k + 1),
                label: `only number ${k + 1}`,
              })),
            ]}
            onChange={(v) => put("instance", v ? Number(v) : null, o.instance)}
          />
        )}
      </fieldset>
      {"targets" in p && <RouteGeometry operation={o} />}
      <fieldset>
        <legend>Path</legend>
        {"scallop_mm" in p && (
          <SegmentedControl
            size="xs"
            fullWidth
            mb={8}
            aria-label="Spacing of passes"
            value={byScallop ? "scallop" : "stepover"}
            data={[
              { value: "stepover", label: "Stepover" },
              { value: "scallop", label: "Scallop height" },
            ]}
            onChange={(v) =>
              job.edit(
                v === "scallop"
                  ? [
                      { path: `${at}/params/stepover_mm`, value: null, was: p.stepover_mm },
                      { path: `${at}/params/scallop_mm`, value: 0.01, was: p.scallop_mm },
                    ]
                  : [
                      { path: `${at}/params/scallop_mm`, value: null, was: p.scallop_mm },
                      { path: `${at}/params/stepover_mm`, value: 0.4, was: p.stepover_mm },
                    ],
                "spacing",
              )
            }
          />
        )}
        <SchemaForm
          schema={schema}
          value={o.params}
          skip={[...APART, ...("scallop_mm" in p ? [byScallop ? "stepover_mm" : "scallop_mm"] : [])]}
          folded={FOLDED}
          onChange={change}
        />
      </fieldset>
      {p.boundary && (
        <fieldset>
          <legend>Boundary</legend>
          <SegmentedControl
            size="xs"
            fullWidth
            aria-label="Boundary"
            value={pickFaces ? "faces" : p.boundary.kind}
            data={[
              { value: "part outline", label: "Part outline" },
              { value: "faces", label: "Picked faces" },
              { value: "sketch", label: "Sketch", disabled: !job.doc.sketches.length },
            ]}
            onChange={(v) => {
              if (v === "faces") return view.set({ picking: "boundary", faces: [], edges: [] });
              view.set({ picking: "" });
              change(
                "boundary",
                v === "sketch" ? { kind: "sketch", sketch: job.doc.sketches[0].id } : { kind: "part outline" },
                p.boundary,
              );
            }}
          />
          {!pickFaces && p.boundary.kind === "sketch" && (
            <Select
              size="xs"
              mt={6}
              label="Sketch"
              description="Closed curves; one inside another is kept out"
              allowDeselect={false}
              value={p.boundary.sketch ?? null}
              data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
              onChange={(v) => change("boundary", { kind: "sketch", sketch: v }, p.boundary)}
            />
          )}
          {pickFaces && (
            <BoundaryPicker
              onDone={(faces) => {
                view.set({ picking: "", faces: [] });
                change("boundary", { kind: "faces", faces }, p.boundary);
              }}
            />
          )}
          {!pickFaces && p.boundary.kind === "faces" && (
            <Text mt={6} className="faint">
              {p.boundary.faces?.length} faces picked
            </Text>
          )}
        </fieldset>
      )}
      <CopiesForm operation={o} />
      <details>
        <summary>Speeds of this row, removing it</summary>
        <SchemaForm
          schema={pick(useModelSchema("Operation"), ["spindle_rpm", "cutting_feed_mm_min"])}
          value={o as never}
          onChange={(f, v, w) => put(f, v, w)}
        />
        <Button
          mt={8}
          size="compact-xs"
          variant="default"
          onClick={() => {
            job.edit([{ op: "remove", path: at }], `remove ${o.number}`);
            view.set({ rows: [] });
          }}
        >
          Remove this row
        </Button>
      </details>
    </>
  );
}

/** The path again at other places. */
function CopiesForm({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const kinds = useKinds("Operation", "copies");
  const at = `operations/${o.number}/copies`;
  return (
    <details open={!!o.copies}>
      <summary>Copies</summary>
      <Select
        size="xs"
        label="Copies of this path"
        allowDeselect={false}
        value={o.copies?.kind ?? "none"}
        data={["none", ...Object.keys(kinds)]}
        onChange={(v) => job.edit([{ path: at, value: v === "none" ? null : { kind: v }, was: o.copies }], "copies")}
      />
      {o.copies && (
        <SchemaForm
          schema={kinds[o.copies.kind]}
          value={o.copies}
          onChange={(f, value, was) => job.edit([{ path: `${at}/${f}`, value, was }], "copies")}
        />
      )}
    </details>
  );
}

const pick = (schema: ReturnType<typeof useModelSchema>, names: string[]) =>
  schema && { properties: Object.fromEntries(names.map((n) => [n, schema.properties[n]])) };

function BoundaryPicker({ onDone }: { onDone: (faces: FaceSelector[]) => void }) {
  const view = useView();
  const part = usePart();
  return (
    <Group mt={8} justify="space-between">
      <span>{view.faces.length} faces picked</span>
      <Button
        size="compact-sm"
        disabled={!view.faces.length || !part.data}
        onClick={() => onDone(view.faces.map((k) => part.data!.faces[k].reference))}
      >
        Use these faces
      </Button>
    </Group>
  );
}

function Unreached({ number }: { number: number }) {
  const path = usePath(number);
  const places = path.data?.meta.unreached ?? [];
  if (!places.length) return null;
  return (
    <fieldset>
      <legend>Not reached: {places.length}</legend>
      {places.slice(0, 6).map((u: { reason: string; advice: string; place: number[] }, k: number) => (
        <Text key={k} className="warn" mb={4}>
          ◆ {u.reason} {u.advice} <span className="faint">at {u.place.map((v) => v.toFixed(1)).join(", ")}</span>
        </Text>
      ))}
    </fieldset>
  );
}

/** One value for many rows. */
function ManyForm({ operations }: { operations: Operation[] }) {
  const job = useJob();
  const schema = useKinds("Operation", "params")[operations[0].params.strategy];
  const spread = (fields: string[], what: string) => {
    const [first, ...rest] = operations;
    job.edit(
      rest.flatMap((o) =>
        fields.map((n) => ({
          path: `operations/${o.number}/params/${n}`,
          value: first.params[n] ?? null,
          check: false,
        })),
      ),
      `${what} of ${first.number}`,
    );
  };
  const shared = ["allowance_mm", "floor_allowance_mm", "tolerance_mm"];
  const same = operations.every((o) => o.params.strategy === operations[0].params.strategy);
  const skip = Object.keys(schema?.properties ?? {}).filter((n) => APART.includes(n) || (!same && !shared.includes(n)));
  return (
    <>
      <Text fw={600} mb={8}>
        {operations.length} rows together
      </Text>
      <Group gap={6} mb={8}>
        <Button
          size="compact-sm"
          variant="default"
          disabled={!same}
          onClick={() =>
            spread(
              Object.keys(schema?.properties ?? {}).filter((n) => n !== "targets" && n !== "strategy"),
              "values",
            )
          }
        >
          Values of {operations[0].number} to all
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          disabled={!operations.every((o) => "targets" in o.params)}
          onClick={() => spread(["targets"], "geometry")}
        >
          Geometry of {operations[0].number} to all
        </Button>
      </Group>
      <SchemaForm
        schema={schema}
        skip={skip}
        folded={FOLDED}
        value={operations[0].params}
        onChange={(f, v) =>
          job.edit(
            operations.map((o) => ({ path: `operations/${o.number}/params/${f}`, value: v, was: o.params[f] })),
            `${operations.length} rows`,
          )
        }
      />
    </>
  );
}

/** A cell of the route sheet that is edited in place. */
function Cell({
  value,
  path,
  label,
  unit,
}: {
  value: number | null | undefined;
  path: string;
  label: string;
  unit: string;
}) {
  const job = useJob();
  const shown = value == null ? "" : String(value);
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const commit = async () => {
    if (text === shown) return;
    try {
      if (await job.edit([{ path, value: await readNumber(text, unit), was: value ?? null }], label)) setText(shown);
    } catch (e) {
      job.setNote((e as Error).message);
      setText(shown);
    }
  };
  return (
    <input
      className="cell"
      aria-label={label}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={commit}
      onClick={(e) => e.stopPropagation()}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") setText(shown);
      }}
    />
  );
}

const SIGNS: Record<string, string> = { ready: "✓", "out of date": "↻", computing: "…", failed: "✕", off: "○" };

/** Under the route: its sheet, the part's holes, and what no operation makes. */
export function RouteBench() {
  const [tab, setTab] = useState<string | null>("route");
  const left = useCoverage().data?.uncovered.length ?? 0;
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        <Tabs.Tab value="route">Route sheet</Tabs.Tab>
        <Tabs.Tab value="holes">Holes</Tabs.Tab>
        <Tabs.Tab value="left">Left over{left > 0 ? ` (${left})` : ""}</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="route">
        <RouteTable />
      </Tabs.Panel>
      <Tabs.Panel value="holes">
        <HoleTable />
      </Tabs.Panel>
      <Tabs.Panel value="left">
        <LeftOver />
      </Tabs.Panel>
    </Tabs>
  );
}

/** The route sheet: one row for each operation, grouped by setup. */
function RouteTable() {
  const job = useJob();
  const view = useView();
  const [dragged, setDragged] = useState<number | null>(null);
  const states = new Map(job.status?.operations.map((s) => [s.number, s]));
  const longest = Math.max(1, ...(job.status?.operations.map((s) => s.time_s ?? 0) ?? []));
  const select = (n: number, more: boolean) =>
    view.set({
      rows: more ? (view.rows.includes(n) ? view.rows.filter((r) => r !== n) : [...view.rows, n]) : [n],
      setup: job.doc.operations.find((o) => o.number === n)!.setup,
    });
  const duplicate = (o: Operation) => {
    const number = Math.floor(Math.max(...job.doc.operations.map((x) => x.number)) / 10) * 10 + 10;
    job.edit([{ op: "add", path: "operations", value: { ...o, number } }], "duplicate");
  };
  const drop = (target: number) => {
    if (dragged === null || dragged === target) return;
    job.edit(
      [
        {
          op: "move",
          path: `operations/${dragged}`,
          value: job.doc.operations.findIndex((o) => o.number === target),
          check: false,
        } as Edit,
      ],
      "reorder",
    );
  };
  return (
    <div className="scroll">
      <table className="dense" aria-label="Route sheet">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>What it does</th>
            <th>Tool</th>
            <th className="n">Allowance</th>
            <th className="n">Step</th>
            <th className="n">rpm</th>
            <th className="n">Feed</th>
            <th>Time</th>
            <th>State</th>
            <th />
          </tr>
        </thead>
        {job.doc.setups.map((setup) => {
          const rows = job.doc.operations.filter((o) => o.setup === setup.id);
          const total = job.status?.setups.find((s) => s.id === setup.id)?.time_s;
          return (
            <tbody key={setup.id}>
              <tr className="group">
                <td />
                <td colSpan={6}>{setup.name || setup.id}</td>
                <td>{clock(total)}</td>
                <td colSpan={2}>
                  <Button
                    size="compact-xs"
                    variant="default"
                    disabled={!rows.length}
                    onClick={() => job.compute(setup.id)}
                  >
                    Compute and prove
                  </Button>
                </td>
              </tr>
              {rows.map((o) => {
                const s = states.get(o.number),
                  tool = job.doc.tools.find((t) => t.number === o.tool),
                  p = o.params as Params & { stepover_mm?: number | null; scallop_mm?: number | null };
                const step = ["stepover_mm", "scallop_mm", "stepover_percent", "side_step_mm"].find(
                  (n) => p[n] != null,
                );
                return (
                  <tr
                    key={o.number}
                    draggable
                    tabIndex={0}
                    aria-selected={view.rows.includes(o.number)}
                    data-state={s?.state}
                    onClick={(e) => select(o.number, e.shiftKey || e.ctrlKey)}
                    onKeyDown={(e) => {
                      if (e.target === e.currentTarget && e.key === "Enter") select(o.number, e.shiftKey);
                    }}
                    onDragStart={() => setDragged(o.number)}
                    onDragOver={(e) => e.preventDefault()}
                    onDrop={() => drop(o.number)}
                  >
                    <td className="n">{o.number}</td>
                    <td style={{ maxWidth: 210, overflow: "hidden", textOverflow: "ellipsis" }}>
                      {o.name || <span className="faint">{o.params.strategy}</span>}
                    </td>
                    <td>
                      T{o.tool} {toolLabel(tool)}
                    </td>
                    <td className="n">
                      <Cell
                        label={`Allowance of ${o.number}`}
                        unit="mm"
                        value={o.params.allowance_mm}
                        path={`operations/${o.number}/params/allowance_mm`}
                      />
                    </td>
                    <td className="n">
                      {step ? (
                        <Cell
                          label={`Step of ${o.number}`}
                          unit={step === "stepover_percent" ? "%" : "mm"}
                          value={p[step] as number | null}
                          path={`operations/${o.number}/params/${step}`}
                        />
                      ) : (
                        "–"
                      )}
                    </td>
                    <td className="n">{Math.round(o.spindle_rpm ?? tool?.spindle_rpm ?? 0)}</td>
                    <td className="n">{Math.round(o.cutting_feed_mm_min ?? tool?.cutting_feed_mm_min ?? 0)}</td>
                    <td>
                      {clock(s?.time_s)}
                      <span className="bar" style={{ width: (60 * (s?.time_s ?? 0)) / longest }} />
                    </td>
                    <td>
                      <Tooltip label={s?.reason || s?.state || ""} disabled={!s?.reason} multiline maw={320}>
                        <span className={s?.state === "failed" ? "fault" : s?.state === "out of date" ? "warn" : ""}>
                          {SIGNS[s?.state ?? ""]}{" "}
                          {s?.state === "computing" ? `computing ${Math.round(100 * s.fraction)} %` : s?.state}
                        </span>
                      </Tooltip>
                    </td>
                    <td>
                      <Group gap={4} wrap="nowrap">
                        <Button
                          size="compact-xs"
                          variant="default"
                          aria-label={`Duplicate ${o.number}`}
                          onClick={(e) => {
                            e.stopPropagation();
                            duplicate(o);
                          }}
                        >
                          Duplicate
                        </Button>
                        <Button
                          size="compact-xs"
                          variant="default"
                          aria-label={`Switch ${o.number} ${o.enabled ? "off" : "on"}`}
                          onClick={(e) => {
                            e.stopPropagation();
                            job.edit(
                              [{ path: `operations/${o.number}/enabled`, value: !o.enabled, was: o.enabled }],
                              o.enabled ? "switch off" : "switch on",
                            );
                          }}
                        >
                          {o.enabled ? "Off" : "On"}
                        </Button>
                      </Group>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          );
        })}
      </table>
      {!job.doc.operations.length && (
        <Text className="faint" p={12}>
          No operations yet. Add one in the sheet at the right.
        </Text>
      )}
    </div>
  );
}
