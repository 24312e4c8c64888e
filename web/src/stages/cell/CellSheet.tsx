import { Button, Group, SegmentedControl, Select, Slider, Text, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, take, type Schemas } from "../../api/client";
import { SchemaForm, useModelSchema, type ModelSchema } from "../../forms/SchemaForm";
import type { Cell, Fields, Operation } from "../../job/document";
import { setMoving, useMoving, type Paint } from "../../job/moving";
import { metaOf } from "../../job/machine";
import { useArmWay, useMachine } from "../../job/queries";
import { SetupChoice } from "../../job/SetupChoice";
import { useArmRow } from "../../job/useArmRow";
import { useJob, useStanding } from "../../job/useJob";
import { useValues } from "../../job/useValues";
import { useView } from "../../job/view";
import { Bodies } from "../../machine/Bodies";
import { ReachBands } from "./ReachBands";
import { Stretch } from "./Stretch";
import { times } from "./words";

/** How the arm is to go along a row: wishes, freedoms, reach, and where to put the work instead. */
export function CellSheet() {
  const { doc } = useJob();
  const { status } = useStanding();
  const view = useView();
  const row = useArmRow();
  const cell = doc.cells.find((c) => c.name === doc.setups.find((s) => s.id === view.setup)?.machine);
  if (!cell)
    return (
      <>
        <SetupChoice />
        <Text>The machine of this setup is no cell. Choose one in Setups.</Text>
      </>
    );
  if (!row)
    return (
      <>
        <SetupChoice />
        <Text>This setup has no rows yet. Add one in Route; then the arm can be asked to go along it.</Text>
      </>
    );
  return (
    <>
      <SetupChoice />
      <Select
        size="xs"
        mb={8}
        label="Row"
        allowDeselect={false}
        value={String(row.number)}
        data={doc.operations
          .filter((o) => o.setup === view.setup && o.enabled)
          .map((o) => ({ value: String(o.number), label: `${o.number} ${o.name || o.params.strategy}` }))}
        onChange={(v) => {
          setMoving({ joints: null, row: 0 });
          view.set({ rows: [Number(v)] });
        }}
      />
      <Way row={row} />
      <Stretch
        key={row.number}
        row={row}
        ready={status?.operations.find((o) => o.number === row.number)?.state === "ready"}
      />
      <ReachBands row={row} />
      <Wishes row={row} cell={cell} />
      <Places row={row} />
      <Bodies setup={view.setup} />
    </>
  );
}

/** Whether the way is solved, what came of it, and what the path is coloured by. */
function Way({ row }: { row: Operation }) {
  const job = useJob();
  const { status } = useStanding();
  const state = status?.operations.find((o) => o.number === row.number);
  const way = useArmWay(row.number).data;
  const { paint } = useMoving();
  const busy = status?.tasks.some((t) => t.state === "running" || t.state === "waiting");
  const least = (column: Float32Array) => column.reduce((a, b) => Math.min(a, b), Infinity);
  const mean = (column: Float32Array) => column.reduce((a, b) => a + b, 0) / Math.max(column.length, 1);
  return (
    <fieldset>
      <legend>Way</legend>
      {state?.way !== "ready" && (
        <>
          <Text mb={6}>{state?.state === "failed" ? state.reason : "The arm's way along this row is not solved."}</Text>
          <Button size="xs" mb={8} disabled={busy} onClick={() => job.compute(row.setup, [row.number], false)}>
            Solve the whole path
          </Button>
        </>
      )}
      {way && (
        <>
          <dl className="facts" data-testid="way">
            <dt>Rows</dt>
            <dd>{way.leap.length}</dd>
            <dt>Not reached</dt>
            <dd className={way.meta.lost ? "fault" : ""}>{way.meta.lost ? `✕ ${way.meta.lost}` : "none"}</dd>
            <dt>Comes by another way</dt>
            <dd>{times(way.meta.leaps)}</dd>
            <dt>Least from singular</dt>
            <dd>{least(way.singular).toFixed(2)}</dd>
            <dt>Least clearance, at least</dt>
            <dd>{least(way.clearance).toFixed(0)} mm</dd>
            <dt>Elbow over the base</dt>
            <dd>{mean(way.elbow).toFixed(0)} mm</dd>
            <dt>Flange from the base's line</dt>
            <dd>{mean(way.flange).toFixed(0)}°</dd>
          </dl>
          {way.meta.places.slice(0, 1).map((p: { words: string; place: number[] }) => (
            <Text key={p.words} className="fault" mb={6}>
              ✕ The first place that is not reached, X{p.place.map((v) => v.toFixed(1)).join(" / ")}, is {p.words}.
            </Text>
          ))}
          <Text size="xs" mb={2}>
            Path coloured by
          </Text>
          <SegmentedControl
            size="xs"
            aria-label="Path coloured by"
            value={paint}
            onChange={(v) => setMoving({ paint: v as Paint })}
            data={[
              { value: "plain", label: "nothing" },
              { value: "singular", label: "singular" },
              { value: "room", label: "limits" },
              { value: "clearance", label: "clearance" },
            ]}
          />
        </>
      )}
    </fieldset>
  );
}

const isWish = (schema: ModelSchema, name: string) => !!(schema.properties[name] as { slider?: boolean }).slider;

/** The wishes as sliders, then what the axes round the arm may do. */
function Wishes({ row, cell }: { row: Operation; cell: Cell }) {
  const job = useJob();
  const schema = useModelSchema("ArmWishes");
  const own = (row.arm ?? {}) as Fields;
  if (!schema) return null;
  const put = (field: string, value: unknown) =>
    job.edit([{ path: `operations/${row.number}/arm`, value: { ...own, [field]: value }, was: row.arm }], "arm");
  const wishes = Object.keys(schema.properties).filter((n) => isWish(schema, n));
  const postures = cell.postures.map((p) => p.name);
  const absent = [...(cell.turntable ? [] : ["table", "table_deg"]), ...(cell.track ? [] : ["track", "track_mm"])];
  return (
    <>
      <fieldset>
        <legend>Wishes</legend>
        {wishes.map((name) => (
          <Wish
            key={name}
            title={schema.properties[name].title ?? name}
            hint={schema.properties[name].description ?? ""}
            value={(own[name] ?? schema.properties[name].default) as number}
            onCommit={(v) => put(name, v)}
          />
        ))}
        <Select
          size="xs"
          label="Posture"
          placeholder={postures.length ? "none" : "none taught yet"}
          clearable
          data={postures}
          value={(own.posture as string) || null}
          onChange={(v) => put("posture", v ?? "")}
        />
        <Teach cell={cell.name} row={row} />
      </fieldset>
      <fieldset>
        <legend>Axes round the arm</legend>
        <SchemaForm
          schema={schema}
          skip={[...wishes, ...absent, "posture", "ranges"]}
          value={own}
          onChange={(field, value) => put(field, value)}
        />
      </fieldset>
    </>
  );
}

function Wish({
  title,
  hint,
  value,
  onCommit,
}: {
  title: string;
  hint: string;
  value: number;
  onCommit: (v: number) => void;
}) {
  const [now, setNow] = useState<number | null>(null);
  return (
    <div style={{ marginBottom: 8 }}>
      <Text size="xs" title={hint}>
        {title} <span className="faint">{(now ?? value).toFixed(2)}</span>
      </Text>
      <Slider
        size="sm"
        min={0}
        max={1}
        step={0.05}
        label={null}
        thumbLabel={title}
        value={now ?? value}
        onChange={setNow}
        onChangeEnd={(v) => {
          setNow(null);
          onCommit(v);
        }}
      />
    </div>
  );
}

/** Keeps how the arm stands as a posture of the cell, by a name. */
function Teach({ cell, row }: { cell: string; row: Operation }) {
  const job = useJob();
  const [name, setName] = useState("");
  const machine = useMachine(row.setup).data;
  const values = useValues(row.setup, row.number);
  const keep = () => {
    if (!machine || !values) return;
    const meta = metaOf(machine);
    const joints_deg = meta.arm.map((n) => values[meta.joints.findIndex((j) => j.name === n)]);
    void job.edit(
      [
        { op: "add", path: `cells/${cell}/postures`, value: { name: name.trim(), joints_deg } },
        {
          path: `operations/${row.number}/arm`,
          value: { ...(row.arm ?? {}), posture: name.trim(), stay: row.arm?.stay || 0.5 },
          was: row.arm,
        },
      ],
      "posture",
    );
    setName("");
  };
  return (
    <Group gap={6} mt={6} align="end" wrap="nowrap">
      <TextInput
        size="xs"
        label="Keep how the arm stands as"
        value={name}
        onChange={(e) => setName(e.currentTarget.value)}
        style={{ flex: 1 }}
      />
      <Button size="xs" variant="default" disabled={!name.trim() || !values} onClick={keep}>
        Keep
      </Button>
    </Group>
  );
}

/** Where the work could lie so that more of the row is reached. */
function Places({ row }: { row: Operation }) {
  const job = useJob();
  const { status } = useStanding();
  const [found, setFound] = useState<Schemas["PlaceShare"][] | null>(null);
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  const setup = job.doc.setups.find((s) => s.id === row.setup)!;
  const ready = status?.operations.find((o) => o.number === row.number)?.state === "ready";
  const look = async () => {
    setBusy(true);
    setWrong("");
    try {
      const path = { params: { path: { job_id: job.id, number: row.number } } };
      setFound(await take(api.GET("/api/jobs/{job_id}/operations/{number}/places", path)));
    } catch (error) {
      setWrong((error as Error).message);
    }
    setBusy(false);
  };
  return (
    <fieldset>
      <legend>Place of the work</legend>
      <Button size="xs" variant="default" disabled={!ready} loading={busy} onClick={() => void look()}>
        Find the best place
      </Button>
      {wrong && <Text className="fault">{wrong}</Text>}
      {found && (
        <table className="dense" style={{ marginTop: 6 }} data-testid="places">
          <thead>
            <tr>
              <th className="n">X</th>
              <th className="n">Y</th>
              <th className="n">reached</th>
              <th className="n">axes still</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {found.slice(0, 5).map((p) => (
              <tr key={`${p.x_mm} ${p.y_mm}`}>
                <td className="n">{p.x_mm.toFixed(0)}</td>
                <td className="n">{p.y_mm.toFixed(0)}</td>
                <td className="n">{(100 * p.share).toFixed(0)} %</td>
                <td className="n">{(100 * p.held_share).toFixed(0)} %</td>
                <td>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Put the work at X${p.x_mm.toFixed(0)} Y${p.y_mm.toFixed(0)}`}
                    onClick={() =>
                      void job.edit(
                        [{ path: `setups/${setup.id}/on_table_mm`, value: [p.x_mm, p.y_mm], was: setup.on_table_mm }],
                        "place on the table",
                      )
                    }
                  >
                    Put it here
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </fieldset>
  );
}
