import { Button, Group, Text, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { freshId, type MeasureSpot } from "../../job/document";
import { pick, usePicks } from "../../job/picking";
import { usePart, usePickTables } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { Item } from "./Kept";
import { f, referencesTo } from "./references";

/** Faces, and edges, of which the list tells one by one. */
const LISTED = 60;

/** What is picked: its measures, keeping it under a name. */
export function Picked() {
  const job = useJob();
  const picks = usePicks();
  const part = usePart().data!;
  const tables = usePickTables().data;
  const [name, setName] = useState("");
  const [measured, setMeasured] = useState<Schemas["Measured"] | null>(null);
  const many = picks.faces.length + picks.edges.length;
  const spots = async (): Promise<MeasureSpot[]> =>
    (await referencesTo(job.id, picks.faces, picks.edges))
      .slice(0, 2)
      .map((what) => ({ on: "part", setup: "", fixture: "", what, place: many === 1 ? picks.place : null }));
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
  }, [picks.faces, picks.edges, picks.place]);
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
          value: { name: name.trim(), items: await referencesTo(job.id, picks.faces, picks.edges) },
        },
      ],
      `selection ${name}`,
    );
    if (!error) setName("");
  };
  const area = picks.faces.reduce((a, k) => a + (part.faces[k]?.area_mm2 ?? 0), 0),
    unlisted = Math.max(0, picks.faces.length - LISTED) + Math.max(0, picks.edges.length - LISTED),
    length = picks.edges.reduce((a, e) => a + (tables?.meta.lengths[e] ?? 0), 0);
  return (
    <fieldset>
      <legend>Picked: {many}</legend>
      <div style={{ maxHeight: 165, overflowY: "auto" }}>
        {picks.faces
          .filter((k) => part.faces[k])
          .slice(0, LISTED)
          .map((k) => {
            const face = part.faces[k];
            return (
              <Item
                key={`f${k}`}
                text={`${face.kind}${face.radius_mm ? ` R ${f(face.radius_mm, 3)}` : ""} · ${f(face.area_mm2)} mm²${face.kind === "plane" ? ` · z ${f(face.centroid[2])}` : ""}`}
                label={`Let go of face ${k}`}
                onDrop={() => pick({ faces: picks.faces.filter((x) => x !== k) })}
              />
            );
          })}
        {tables &&
          picks.edges
            .slice(0, LISTED)
            .map((e) => (
              <Item
                key={`e${e}`}
                text={`${tables.meta.kinds[e]}${tables.meta.radii[e] ? ` R ${f(tables.meta.radii[e], 3)}` : ""} · ${f(tables.meta.lengths[e], 3)} mm`}
                label={`Let go of edge ${e}`}
                onDrop={() => pick({ edges: picks.edges.filter((x) => x !== e) })}
              />
            ))}
        {unlisted > 0 && <Text className="faint">and {unlisted} more</Text>}
      </div>
      {many > 1 && (
        <Text className="faint">
          Together {picks.faces.length > 0 && `${f(area)} mm²`}
          {picks.edges.length > 0 && ` ${f(length, 3)} mm long`}.
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
        <Button size="compact-xs" variant="default" onClick={() => pick({ faces: [], edges: [], place: null })}>
          Let go of all
        </Button>
        <Text className="faint">Shift adds, Alt runs on along tangents.</Text>
      </Group>
    </fieldset>
  );
}
