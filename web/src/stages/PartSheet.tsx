import { Anchor, Button, Group, Menu, Text, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api, take, type Schemas } from "../api/client";
import { NumberField } from "../forms/NumberField";
import { PickFile } from "../forms/PickFile";
import { TextField } from "../forms/SchemaForm";
import { freshId, type MeasureSpot, type Selector, type Vec } from "../job/document";
import { useMeasurements, usePart, usePickTables } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";

export const f = (v: number, d = 2) => v.toLocaleString("en", { maximumFractionDigits: d }).replace(/,/g, " ");
const MODELS = ".step,.stp,.iges,.igs,.brep,.brp,.stl,.3mf,.obj";

/** The model: bring it in, see what it is, mend its scale; what is picked, measured and kept. */
export function PartSheet({ onFile }: { onFile: (file: File) => void }) {
  const job = useJob();
  const view = useView();
  const part = usePart();
  const s = part.data?.summary;
  const rescale = async (scale: number | null) => {
    try {
      await take(
        api.PUT("/api/jobs/{job_id}/part/scale", {
          params: { path: { job_id: job.id }, query: { scale: scale ?? 1 } },
        }),
      );
      job.reload();
      return "";
    } catch (e) {
      return (e as Error).message;
    }
  };
  return (
    <>
      <fieldset>
        <legend>Job</legend>
        <TextField
          label="Name"
          value={job.doc.name}
          onCommit={(v) => job.edit([{ path: "name", value: v, was: job.doc.name }], "job name")}
        />
      </fieldset>
      {(view.faces.length > 0 || view.edges.length > 0) && part.data && <Picked />}
      <Measures />
      <fieldset>
        <legend>Model</legend>
        <Group gap={8} mb={8}>
          <PickFile accept={MODELS} size="xs" variant={job.doc.part ? "default" : "filled"} onFile={onFile}>
            {job.doc.part ? "Replace the model" : "Choose a model file"}
          </PickFile>
          {job.doc.part && (
            <Menu>
              <Menu.Target>
                <Button size="xs" variant="default">
                  Save as
                </Button>
              </Menu.Target>
              <Menu.Dropdown>
                {["step", "stl", "3mf", "glb"].map((form) => (
                  <Menu.Item key={form} component="a" href={`/api/jobs/${job.id}/part/export?form=${form}`}>
                    {form.toUpperCase()}
                  </Menu.Item>
                ))}
              </Menu.Dropdown>
            </Menu>
          )}
        </Group>
        {part.error && <Text className="fault">{part.error.message}</Text>}
        {s && (
          <>
            <dl className="facts">
              <dt>File</dt>
              <dd>{job.doc.part?.file}</dd>
              <dt>Size</dt>
              <dd data-testid="size">{s.size_mm.map((v: number) => f(v)).join(" × ")} mm</dd>
              <dt>Volume</dt>
              <dd>{f(s.volume_mm3 / 1000)} cm³</dd>
              <dt>Area</dt>
              <dd>{f(s.area_mm2 / 100)} cm²</dd>
              <dt>Bodies, faces</dt>
              <dd>
                {s.bodies.length}, {s.faces}
              </dd>
              <dt>Exact</dt>
              <dd>{s.exact ? "yes" : "no, triangles"}</dd>
            </dl>
            {s.warnings.map((w: string) => (
              <Text key={w} className="warn" mb={6} role="note">
                ⚠ {w}
              </Text>
            ))}
            <NumberField
              label="Scale"
              value={s.scale}
              range={{ above: 0, max: 1e6 }}
              hint="25.4 for a model saved in inches"
              onCommit={rescale}
            />
          </>
        )}
      </fieldset>
      {job.doc.part && !job.doc.setups.length && (
        <Button size="xs" onClick={() => view.set({ stage: "setups" })}>
          Next: a setup
        </Button>
      )}
    </>
  );
}

/** References to what is picked. */
export async function referencesTo(id: string, faces: number[], edges: number[]): Promise<Selector[]> {
  const r = await take(
    api.POST("/api/jobs/{job_id}/part/references", { params: { path: { job_id: id } }, body: { faces, edges } }),
  );
  return [...r.faces, ...r.edges] as never;
}

/** What is picked: its measures, keeping it under a name. */
function Picked() {
  const job = useJob();
  const view = useView();
  const part = usePart().data!;
  const tables = usePickTables().data;
  const [name, setName] = useState("");
  const [measured, setMeasured] = useState<Schemas["Measured"] | null>(null);
  const many = view.faces.length + view.edges.length;
  const spots = async (): Promise<MeasureSpot[]> =>
    (await referencesTo(job.id, view.faces, view.edges))
      .slice(0, 2)
      .map((what) => ({ on: "part" as const, what, place: many === 1 ? view.place : null }));
  useEffect(() => {
    let stale = false;
    setMeasured(null);
    if (many === 1 || many === 2)
      spots()
        .then((body) =>
          take(
            api.POST("/api/jobs/{job_id}/measure", {
              params: { path: { job_id: job.id } },
              body: { spots: body as never },
            }),
          ),
        )
        .then((m) => !stale && setMeasured(m as Schemas["Measured"]))
        .catch(() => undefined);
    return () => {
      stale = true;
    };
  }, [view.faces, view.edges, view.place]);
  const keepMeasure = async () =>
    job.edit(
      [
        {
          op: "add",
          path: "measurements",
          value: {
            id: freshId(
              "m",
              job.doc.measurements.map((m) => m.id),
            ),
            spots: await spots(),
          },
        },
      ],
      "measurement",
    );
  const keep = async () => {
    const error = await job.edit(
      [
        {
          op: "add",
          path: "selections",
          value: { name: name.trim(), items: await referencesTo(job.id, view.faces, view.edges) },
        },
      ],
      `selection ${name}`,
    );
    if (!error) setName("");
  };
  const area = view.faces.reduce((a, k) => a + (part.faces[k]?.area_mm2 ?? 0), 0),
    length = view.edges.reduce((a, e) => a + (tables?.meta.lengths[e] ?? 0), 0);
  return (
    <fieldset>
      <legend>Picked: {many}</legend>
      <div style={{ maxHeight: 150, overflowY: "auto" }}>
        {view.faces
          .filter((k) => part.faces[k])
          .slice(0, 60)
          .map((k) => {
            const face = part.faces[k];
            return (
              <Item
                key={`f${k}`}
                text={`${face.kind}${face.radius_mm ? ` R ${f(face.radius_mm, 3)}` : ""} · ${f(face.area_mm2)} mm²${face.kind === "plane" ? ` · z ${f(face.centroid[2])}` : ""}`}
                label={`Let go of face ${k}`}
                onDrop={() => view.set({ faces: view.faces.filter((x) => x !== k) })}
              />
            );
          })}
        {tables &&
          view.edges
            .slice(0, 60)
            .map((e) => (
              <Item
                key={`e${e}`}
                text={`${tables.meta.kinds[e]}${tables.meta.radii[e] ? ` R ${f(tables.meta.radii[e], 3)}` : ""} · ${f(tables.meta.lengths[e], 3)} mm`}
                label={`Let go of edge ${e}`}
                onDrop={() => view.set({ edges: view.edges.filter((x) => x !== e) })}
              />
            ))}
      </div>
      {many > 1 && (
        <Text className="faint">
          Together {view.faces.length > 0 && `${f(area)} mm²`}
          {view.edges.length > 0 && ` ${f(length, 3)} mm long`}.
        </Text>
      )}
      {measured && (
        <>
          <dl className="facts" data-testid="measured">
            {measured.values?.map((v) => [
              <dt key={v.name}>{v.name}</dt>,
              <dd key={`${v.name}v`}>
                {f(v.value, 4)} {v.unit}
              </dd>,
            ])}
          </dl>
          <Button size="compact-xs" variant="default" onClick={keepMeasure}>
            Keep this measurement
          </Button>
        </>
      )}
      <Group gap={6} mt={8} wrap="nowrap">
        <TextInput
          size="xs"
          placeholder="Name"
          aria-label="Name of the selection"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
        />
        <Button size="xs" variant="default" disabled={!name.trim()} onClick={keep}>
          Keep as selection
        </Button>
      </Group>
      <Group gap={6} mt={6}>
        <Button size="compact-xs" variant="default" onClick={() => view.set({ faces: [], edges: [], place: null })}>
          Let go of all
        </Button>
        <Text className="faint">Shift adds, Alt runs on along tangents.</Text>
      </Group>
    </fieldset>
  );
}

function Item({ text, label, onDrop }: { text: string; label: string; onDrop: () => void }) {
  return (
    <Group justify="space-between" wrap="nowrap" mb={3}>
      <span>{text}</span>
      <Button size="compact-xs" variant="default" aria-label={label} onClick={onDrop}>
        ×
      </Button>
    </Group>
  );
}

/** Kept measurements and selections. */
function Measures() {
  const job = useJob();
  const view = useView();
  const part = usePart().data;
  const { measurements, selections } = job.doc;
  const pick = async (items: Selector[]) => {
    if (!part) return;
    const same = (a: Vec, b: Vec) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]) < 0.5;
    const faces = part.faces
      .map((face, k) => [face, k] as const)
      .filter(([face]) =>
        items.some((i) =>
          "centroid" in i
            ? i.kind === face.kind &&
              same(i.centroid, face.centroid) &&
              Math.abs(i.area_mm2 - face.area_mm2) < 0.01 * i.area_mm2
            : !("edge" in i) && fits(i, face),
        ),
      )
      .map(([, k]) => k);
    view.set({ faces, edges: [] });
  };
  if (!measurements.length && !selections.length) return null;
  return (
    <fieldset>
      <legend>Kept</legend>
      {measurements.map((m) => (
        <KeptMeasure key={m.id} id={m.id} />
      ))}
      {measurements.length > 0 && (
        <Button
          size="compact-xs"
          variant="default"
          mb={8}
          onClick={() =>
            job.edit(
              measurements.map((m) => ({ op: "remove" as const, path: `measurements/${m.id}` })),
              "clear measurements",
            )
          }
        >
          Clear the measurements
        </Button>
      )}
      {selections.map((s) => (
        <Group key={s.name} justify="space-between" wrap="nowrap" mb={3}>
          <Anchor component="button" type="button" size="sm" onClick={() => pick(s.items)}>
            {s.name} <span className="faint">({s.items.length})</span>
          </Anchor>
          <Button
            size="compact-xs"
            variant="default"
            aria-label={`Remove selection ${s.name}`}
            onClick={() => job.edit([{ op: "remove", path: `selections/${s.name}` }], "remove selection")}
          >
            ×
          </Button>
        </Group>
      ))}
    </fieldset>
  );
}

const fits = (
  rule: { surface?: string | null; radius_mm?: number | null; normal?: Vec | null; at_z?: number | null },
  face: { kind: string; radius_mm: number | null; normal: Vec; centroid: Vec },
) =>
  (!rule.surface || rule.surface === face.kind) &&
  (rule.radius_mm == null || (face.radius_mm !== null && Math.abs(face.radius_mm - rule.radius_mm) < 0.01)) &&
  (!rule.normal || (face.kind === "plane" && rule.normal.reduce((a, v, i) => a + v * face.normal[i], 0) > 0.999)) &&
  (rule.at_z == null || Math.abs(face.centroid[2] - rule.at_z) < 0.01);

function KeptMeasure({ id }: { id: string }) {
  const job = useJob();
  const now = useMeasurements().data?.find((m) => m.id === id);
  const first = now?.measured?.values?.find((v) => v.name === "wall thickness") ?? now?.measured?.values?.[0];
  return (
    <Group justify="space-between" wrap="nowrap" mb={3}>
      <span data-testid="kept-measure" className={now?.problem ? "fault" : ""}>
        {now?.problem ? now.problem : first ? `${first.name} ${f(first.value, 4)} ${first.unit}` : "…"}
      </span>
      <Button
        size="compact-xs"
        variant="default"
        aria-label={`Remove measurement ${id}`}
        onClick={() => job.edit([{ op: "remove", path: `measurements/${id}` }], "remove measurement")}
      >
        ×
      </Button>
    </Group>
  );
}
