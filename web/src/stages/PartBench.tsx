import { Button, Group, Menu, NumberInput, Select, Tabs, Text, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schemas } from "../api/client";
import { PickFile, keptName, withFile } from "../forms/PickFile";
import { SchemaForm, freshOf, useKinds } from "../forms/SchemaForm";
import { freshId, type Sketch, type Vec } from "../job/document";
import { useCurves, useFeatures, usePart } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { f, referencesTo } from "./PartSheet";

/** Under the part: its features, bodies, health, what changed, and construction geometry. */
export function PartBench() {
  const [tab, setTab] = useState<string | null>("features");
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        {["features", "bodies", "health", "changes", "sketches"].map((t) => (
          <Tabs.Tab key={t} value={t}>
            {t[0].toUpperCase() + t.slice(1)}
          </Tabs.Tab>
        ))}
      </Tabs.List>
      <Tabs.Panel value="features">
        <Features />
      </Tabs.Panel>
      <Tabs.Panel value="bodies">
        <Bodies />
      </Tabs.Panel>
      <Tabs.Panel value="health">
        <Health />
      </Tabs.Panel>
      <Tabs.Panel value="changes">
        <Changes />
      </Tabs.Panel>
      <Tabs.Panel value="sketches">
        <Sketches />
      </Tabs.Panel>
    </Tabs>
  );
}

type Row = {
  name: string;
  what: string;
  size: string;
  depth: string;
  note: string;
  faces: number[];
  direction: Vec | null | undefined;
  accessible: boolean | null | undefined;
  why: string;
};

const LOOKS: Record<string, Vec | null> = {
  all: null,
  "+Z": [0, 0, 1],
  "−Z": [0, 0, -1],
  "+X": [1, 0, 0],
  "−X": [-1, 0, 0],
  "+Y": [0, 1, 0],
  "−Y": [0, -1, 0],
};

/** Features as rows; alike holes stand in one row. */
function rowsOf(r: Schemas["Recognition"]): Row[] {
  const rows: Row[] = [];
  const groups = new Map<number, NonNullable<Schemas["Recognition"]["holes"]>>();
  for (const h of r.holes ?? []) groups.set(h.group ?? 0, [...(groups.get(h.group ?? 0) ?? []), h]);
  for (const holes of groups.values()) {
    const h = holes[0],
      extra = h.steps
        .filter((s) => s.kind !== "bore")
        .map((s) =>
          s.kind === "drill point"
            ? `point ${f(s.angle_deg ?? 0, 0)}°`
            : s.kind === "flat bottom"
              ? "flat bottom"
              : `${s.kind} ⌀${f(s.diameter_mm)}${s.angle_deg ? ` ${f(s.angle_deg, 0)}°` : ` × ${f(s.depth_mm)}`}`,
        );
    const blocked = holes.find((x) => !x.accessible);
    rows.push({
      name: holes.length > 1 ? `${holes.length} holes` : h.name,
      what: h.through ? "through hole" : "blind hole",
      size: `⌀${f(h.diameter_mm, 3)}`,
      depth: f(h.depth_mm),
      note: [...extra, ...(h.threads?.length ? [`tap drill of ${h.threads.join(", ")}`] : [])].join(" · "),
      faces: holes.flatMap((x) => x.faces),
      direction: h.direction as Vec,
      accessible: !blocked,
      why: blocked?.why ?? "",
    });
  }
  for (const p of r.pockets ?? [])
    rows.push({
      name: p.name,
      what: p.kind,
      size: `${f(p.length_mm)} × ${f(p.width_mm)}`,
      depth: f(p.depth_mm),
      note: [
        p.parent && `in ${p.parent}`,
        p.islands?.length && `${p.islands.length} island${p.islands.length > 1 ? "s" : ""}`,
        p.corner_radii_mm?.length && `corners R ${p.corner_radii_mm.map((v) => f(v)).join(", ")}`,
        p.floor_radius_mm && `floor R ${f(p.floor_radius_mm)}`,
        p.draft_deg && `draft ${f(p.draft_deg)}°`,
      ]
        .filter(Boolean)
        .join(" · "),
      faces: p.faces,
      direction: p.direction as Vec,
      accessible: p.accessible,
      why: p.why ?? "",
    });
  for (const b of r.bosses ?? [])
    rows.push({
      name: b.name,
      what: b.round ? "round boss" : "boss",
      size: b.round ? `⌀${f(b.length_mm)}` : `${f(b.length_mm)} × ${f(b.width_mm)}`,
      depth: f(b.height_mm),
      note: b.island_of ? `island of ${b.island_of}` : "",
      faces: b.faces,
      direction: b.direction as Vec,
      accessible: b.accessible,
      why: "",
    });
  for (const c of r.chamfers ?? [])
    rows.push({
      name: c.name,
      what: "chamfer",
      size: `${f(c.width_mm)} × ${f(c.angle_deg, 0)}°`,
      depth: "",
      note: `${f(c.length_mm)} mm long`,
      faces: c.faces,
      direction: null,
      accessible: null,
      why: "",
    });
  const blends = new Map<string, NonNullable<Schemas["Recognition"]["blends"]>>();
  for (const b of r.blends ?? []) {
    const k = `${b.concave} ${b.radius_mm.toFixed(3)}`;
    blends.set(k, [...(blends.get(k) ?? []), b]);
  }
  for (const list of blends.values())
    rows.push({
      name: list.length > 1 ? `${list.length} fillets` : list[0].name,
      what: list[0].concave ? "inner fillet" : "rounded edge",
      size: `R ${f(list[0].radius_mm, 3)}`,
      depth: "",
      note: `${f(list.reduce((a, b) => a + b.length_mm, 0))} mm long`,
      faces: list.flatMap((b) => b.faces),
      direction: null,
      accessible: null,
      why: "",
    });
  for (const a of r.flat_areas ?? [])
    rows.push({
      name: a.name,
      what: "flat area",
      size: `${f(a.area_mm2)} mm²`,
      depth: "",
      note: `level ${f(a.level_mm)}`,
      faces: a.faces,
      direction: a.direction as Vec,
      accessible: null,
      why: "",
    });
  for (const o of r.outer_profiles ?? [])
    rows.push({
      name: o.name,
      what: "outer profile",
      size: `${f(o.length_mm)} mm round`,
      depth: f(o.height_mm),
      note: "",
      faces: o.faces,
      direction: o.direction as Vec,
      accessible: null,
      why: "",
    });
  for (const d of r.draft_walls ?? [])
    rows.push({
      name: d.name,
      what: "walls with draft",
      size: `${f(d.draft_deg)}°`,
      depth: "",
      note: "",
      faces: d.faces,
      direction: d.direction as Vec,
      accessible: d.accessible,
      why: d.why ?? "",
    });
  for (const u of r.undercuts ?? [])
    rows.push({
      name: u.name,
      what: "undercut",
      size: `${f(u.area_mm2)} mm²`,
      depth: "",
      note: "",
      faces: u.faces,
      direction: u.direction as Vec,
      accessible: false,
      why: u.why ?? "",
    });
  return rows;
}

const arrow = (d: Vec | null | undefined) => {
  if (!d) return "";
  const k = d.findIndex((v) => Math.abs(Math.abs(v) - 1) < 1e-6);
  return k >= 0 ? `${d[k] > 0 ? "+" : "−"}${"XYZ"[k]}` : d.map((v) => f(v, 2)).join(", ");
};

function Features() {
  const view = useView();
  const [look, setLook] = useState("all");
  const found = useFeatures(LOOKS[look]);
  const [chosen, setChosen] = useState("");
  if (found.error)
    return (
      <Text p={12} className="faint">
        {found.error.message}
      </Text>
    );
  const rows = found.data ? rowsOf(found.data) : [];
  const take_ = (r: Row) => {
    setChosen(r.name + r.size);
    view.set({ faces: r.faces, edges: [], lit: [] });
  };
  return (
    <div className="scroll">
      <Group gap={8} px={8} py={5}>
        <Select
          size="xs"
          w={90}
          aria-label="Seen from"
          value={look}
          data={Object.keys(LOOKS)}
          allowDeselect={false}
          onChange={(v) => setLook(v!)}
        />
        <Text className="faint">
          {found.isLoading
            ? "looking …"
            : `${found.data?.holes?.length ?? 0} holes, ${found.data?.pockets?.length ?? 0} pockets and slots, ${rows.length} rows`}
        </Text>
      </Group>
      <table className="dense" aria-label="Features">
        <thead>
          <tr>
            <th>Feature</th>
            <th>Kind</th>
            <th className="n">Size, mm</th>
            <th className="n">Depth</th>
            <th>From</th>
            <th>Reach</th>
            <th>Details</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r, k) => (
            <tr
              key={k}
              tabIndex={0}
              aria-selected={chosen === r.name + r.size}
              onClick={() => take_(r)}
              onKeyDown={(e) => e.key === "Enter" && take_(r)}
              onMouseEnter={() => view.set({ lit: r.faces })}
              onMouseLeave={() => view.set({ lit: [] })}
            >
              <td>{r.name}</td>
              <td>{r.what}</td>
              <td className="n">{r.size}</td>
              <td className="n">{r.depth}</td>
              <td>{arrow(r.direction)}</td>
              <td title={r.why} className={r.accessible === false ? "warn" : ""}>
                {r.accessible == null ? "" : r.accessible ? "✓" : `△ ${r.why}`}
              </td>
              <td style={{ whiteSpace: "normal" }}>{r.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.data && !rows.length && (
        <Text className="faint" p={12}>
          Nothing is recognised from here. Try another direction, or all.
        </Text>
      )}
    </div>
  );
}

const ROLES = ["part", "stock", "fixture", "left out"];

function Bodies() {
  const job = useJob();
  const part = usePart();
  const view = useView();
  const bodies = (part.data?.summary.bodies ?? []) as {
    name: string;
    kind: string;
    first_face: number;
    faces: number;
    volume_mm3: number;
    colour: string;
  }[];
  const roles = job.doc.part?.roles ?? [];
  const put = (body: string, role: string) =>
    job.edit(
      [
        {
          path: "part/roles",
          value: [...roles.filter((r) => r.body !== body), ...(role === "part" ? [] : [{ body, role }])],
          was: roles,
        },
      ],
      `${body} is ${role}`,
    );
  return (
    <div className="scroll">
      <table className="dense" aria-label="Bodies">
        <thead>
          <tr>
            <th>Body</th>
            <th>Kind</th>
            <th className="n">Volume, cm³</th>
            <th className="n">Faces</th>
            <th>Colour</th>
            <th>It is</th>
          </tr>
        </thead>
        <tbody>
          {bodies.map((b, k) => (
            <tr
              key={b.name}
              onMouseEnter={() => view.set({ lit: Array.from({ length: b.faces }, (_, i) => b.first_face + i) })}
              onMouseLeave={() => view.set({ lit: [] })}
            >
              <td>{b.name}</td>
              <td>{b.kind}</td>
              <td className="n">{f(b.volume_mm3 / 1000)}</td>
              <td className="n">{b.faces}</td>
              <td>
                {b.colour ? (
                  <>
                    <span className="swatch" style={{ background: b.colour }} /> {b.colour}
                  </>
                ) : (
                  "–"
                )}
              </td>
              <td>
                <Select
                  size="xs"
                  w={110}
                  aria-label={`What ${b.name} is`}
                  value={part.data!.roles[k]}
                  data={ROLES}
                  allowDeselect={false}
                  onChange={(v) => put(b.name, v!)}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Health() {
  const job = useJob();
  const notes = useQuery({
    queryKey: ["health", job.id, job.doc.part?.file, job.doc.part?.scale],
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/part/health", { params: { path: { job_id: job.id } } })),
  });
  if (notes.error)
    return (
      <Text p={12} className="fault">
        {notes.error.message}
      </Text>
    );
  if (!notes.data)
    return (
      <Text p={12} className="faint">
        Checking surfaces and edges …
      </Text>
    );
  if (!notes.data.length)
    return <Text p={12}>✓ The model is sound: closed, no slivers, no tiny edges, nothing crosses itself.</Text>;
  return (
    <div className="scroll">
      <table className="dense">
        <thead>
          <tr>
            <th>What</th>
            <th>Mended</th>
            <th>Where</th>
            <th>Details</th>
          </tr>
        </thead>
        <tbody>
          {notes.data.map((n, k) => (
            <tr key={k}>
              <td>{n.kind}</td>
              <td>{n.mended ? "✓ yes" : "△ no"}</td>
              <td>{n.place?.map((v) => f(v)).join(", ") ?? ""}</td>
              <td style={{ whiteSpace: "normal" }}>{n.message}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const SIGNS: Record<string, string> = { moved: "→", resized: "↔", gone: "✕", new: "+" };

function Changes() {
  const job = useJob();
  const view = useView();
  const changes = useQuery({
    queryKey: ["changes", job.id, job.version],
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/part/changes", { params: { path: { job_id: job.id } } })),
  });
  if (changes.error)
    return (
      <Text p={12} className="fault">
        {changes.error.message}
      </Text>
    );
  const rows = changes.data?.filter((c) => c.change !== "same") ?? [];
  if (!changes.data)
    return (
      <Text p={12} className="faint">
        Comparing …
      </Text>
    );
  if (!changes.data.length)
    return (
      <Text p={12} className="faint">
        This is the first version of the model. Replace it, and what changed is listed here.
      </Text>
    );
  return (
    <div className="scroll">
      <Text px={8} py={5}>
        {changes.data.length - rows.length} faces are the same, {rows.length} are not.{" "}
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => view.set({ faces: rows.map((r) => r.after).filter((k) => k >= 0), edges: [] })}
        >
          Show them all
        </Button>
      </Text>
      <table className="dense" aria-label="Changes">
        <thead>
          <tr>
            <th>Change</th>
            <th>Face</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r, k) => (
            <tr
              key={k}
              tabIndex={0}
              onClick={() => r.after >= 0 && view.set({ faces: [r.after], edges: [] })}
              onMouseEnter={() => view.set({ lit: r.after >= 0 ? [r.after] : [] })}
              onMouseLeave={() => view.set({ lit: [] })}
            >
              <td>
                {SIGNS[r.change]} {r.change}
              </td>
              <td>{r.words}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Sketches() {
  const job = useJob();
  const view = useView();
  const kinds = useKinds("Sketch", "items");
  const sketch = job.doc.sketches.find((s) => s.id === view.sketch);
  const curves = useCurves(sketch?.id ?? "");
  const add = async () => {
    const id = freshId(
      "sketch",
      job.doc.sketches.map((s) => s.id),
    );
    if (
      !(await job.edit(
        [
          {
            op: "add",
            path: "sketches",
            value: { id, name: `Sketch ${job.doc.sketches.length + 1}`, setup: job.doc.setups[0]?.id ?? "" },
          },
        ],
        "add sketch",
      ))
    )
      view.set({ sketch: id });
  };
  return (
    <div className="scroll">
      <Group gap={8} px={8} py={5}>
        <Select
          size="xs"
          w={190}
          aria-label="Sketch"
          placeholder="Choose a sketch"
          value={sketch?.id ?? null}
          data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
          onChange={(v) => view.set({ sketch: v ?? "" })}
        />
        <Button size="compact-sm" variant="default" onClick={add}>
          New sketch
        </Button>
        {sketch && <AddItem sketch={sketch} kinds={kinds} />}
      </Group>
      {curves.error && (
        <Text px={8} className="fault">
          {curves.error.message}
        </Text>
      )}
      {sketch ? (
        <SketchItems sketch={sketch} kinds={kinds} lengths={curves.data?.meta} />
      ) : (
        <Text className="faint" p={12}>
          A sketch holds points, lines, arcs, text, picked edges or a drawing (DXF, SVG) on a frame. It can bound a path
          or keep it out.
        </Text>
      )}
    </div>
  );
}

type Kinds = ReturnType<typeof useKinds>;

function AddItem({ sketch, kinds }: { sketch: Sketch; kinds: Kinds }) {
  const job = useJob();
  const view = useView();
  const put = (value: Record<string, unknown>) =>
    job.edit([{ op: "add", path: `sketches/${sketch.id}/items`, value }], `add ${value.kind}`);
  const add = async (kind: string) => {
    const id = freshId(
        kind,
        sketch.items.map((i) => i.id),
      ),
      last = sketch.items[sketch.items.length - 1]?.id ?? "";
    if (kind === "edges") {
      if (!view.edges.length)
        return job.setNote("Pick edges in the viewport first (set the click to take edges), then add them.");
      return put({ id, kind, edges: await referencesTo(job.id, [], view.edges) });
    }
    if ((kind === "offset" || kind === "trim") && !last)
      return job.setNote("Draw something first; an offset or a trim needs another item.");
    await put({
      id,
      ...freshOf(kind, kinds[kind], {
        of: last,
        by: [last],
        text: "Text",
        file: job.doc.files.find((n) => /\.(dxf|svg)$/i.test(n)) ?? "",
      }),
    });
  };
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      job.reload();
      await put({
        id: freshId(
          "drawing",
          sketch.items.map((i) => i.id),
        ),
        kind: "drawing",
        file: keptName(file),
      });
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <>
      <Menu>
        <Menu.Target>
          <Button size="compact-sm" variant="default">
            Add
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {Object.keys(kinds)
            .filter((k) => k !== "drawing")
            .map((k) => (
              <Menu.Item key={k} onClick={() => add(k)}>
                {k === "edges" ? "picked edges" : k}
              </Menu.Item>
            ))}
        </Menu.Dropdown>
      </Menu>
      <PickFile accept=".dxf,.svg" size="compact-sm" variant="default" onFile={bring}>
        Drawing from a file
      </PickFile>
      <TextInputFor sketch={sketch} />
      <Button
        size="compact-sm"
        variant="default"
        onClick={() => {
          job.edit([{ op: "remove", path: `sketches/${sketch.id}` }], "remove sketch");
          view.set({ sketch: "" });
        }}
      >
        Remove
      </Button>
    </>
  );
}

function TextInputFor({ sketch }: { sketch: Sketch }) {
  const job = useJob();
  return (
    <>
      <TextInput
        size="xs"
        w={130}
        aria-label="Name of the sketch"
        defaultValue={sketch.name}
        key={sketch.id + sketch.name}
        onBlur={(e) =>
          e.currentTarget.value !== sketch.name &&
          job.edit(
            [{ path: `sketches/${sketch.id}/name`, value: e.currentTarget.value, was: sketch.name }],
            "sketch name",
          )
        }
      />
      <Select
        size="xs"
        w={130}
        aria-label="On the frame of"
        value={sketch.setup}
        data={[
          { value: "", label: "part frame" },
          ...job.doc.setups.map((s) => ({ value: s.id, label: s.name || s.id })),
        ]}
        allowDeselect={false}
        onChange={(v) =>
          job.edit([{ path: `sketches/${sketch.id}/setup`, value: v, was: sketch.setup }], "sketch frame")
        }
      />
      <NumberInput
        size="xs"
        w={90}
        aria-label="Level, mm"
        value={sketch.level_mm}
        onBlur={(e) => {
          const v = Number(e.currentTarget.value);
          if (Number.isFinite(v) && v !== sketch.level_mm)
            job.edit([{ path: `sketches/${sketch.id}/level_mm`, value: v, was: sketch.level_mm }], "sketch level");
        }}
      />
    </>
  );
}

function SketchItems({
  sketch,
  kinds,
  lengths,
}: {
  sketch: Sketch;
  kinds: Kinds;
  lengths?: { items: string[]; lengths: number[] };
}) {
  const job = useJob();
  const [open, setOpen] = useState("");
  const item = sketch.items.find((i) => i.id === open);
  const at = (id: string) => `sketches/${sketch.id}/items/${id}`;
  const long = (id: string) =>
    lengths?.items.reduce((a, owner, k) => (owner === id ? a + lengths.lengths[k] : a), 0) ?? 0;
  return (
    <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) 280px" }}>
      <table className="dense" aria-label="Items of the sketch">
        <thead>
          <tr>
            <th>Item</th>
            <th>Kind</th>
            <th className="n">Length, mm</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {sketch.items.map((i) => (
            <tr
              key={i.id}
              tabIndex={0}
              aria-selected={i.id === open}
              onClick={() => setOpen(i.id)}
              onKeyDown={(e) => e.key === "Enter" && setOpen(i.id)}
            >
              <td>{i.id}</td>
              <td>
                {i.kind}
                {i.kind === "text" ? `: ${i.text}` : ""}
              </td>
              <td className="n">{f(long(i.id), 3)}</td>
              <td>
                <Button
                  size="compact-xs"
                  variant="default"
                  aria-label={`Remove ${i.id}`}
                  onClick={(e) => {
                    e.stopPropagation();
                    job.edit([{ op: "remove", path: at(i.id) }], "remove item");
                  }}
                >
                  ×
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div style={{ padding: "0 8px" }}>
        {item && (
          <SchemaForm
            schema={kinds[item.kind]}
            value={item}
            skip={["id", "kind", "edges"]}
            onChange={(field, value, was) => job.edit([{ path: `${at(item.id)}/${field}`, value, was }], item.kind)}
          />
        )}
      </div>
    </div>
  );
}
