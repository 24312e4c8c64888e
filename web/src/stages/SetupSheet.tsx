import { Button, Group, Menu, SegmentedControl, Select, Switch, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, take } from "../api/client";
import { NumberField } from "../forms/NumberField";
import { PickFile, keptName, withFile } from "../forms/PickFile";
import { SchemaForm, TextField, freshOf, useKinds, useModelSchema, type ModelSchema } from "../forms/SchemaForm";
import { freshId, type Setup, type Vec } from "../job/document";
import { useFeatures, usePart, useScene } from "../job/queries";
import { useJob, type Edit } from "../job/useJob";
import { useView, type Purpose } from "../job/view";
import { referencesTo } from "./PartSheet";

/** One clamping: which way is up, stock, work zero, machine and heights. */
export function SetupSheet() {
  const job = useJob();
  const view = useView();
  const setup = job.doc.setups.find((s) => s.id === view.setup);
  const add = async () => {
    let n = job.doc.setups.length + 1;
    while (job.doc.setups.some((s) => s.id === `s${n}`)) n++;
    const fresh = { id: `s${n}`, name: `Setup ${n}`, machine: job.doc.machines[0]?.name ?? "" };
    if (!(await job.edit([{ op: "add", path: "setups", value: fresh }], "add setup"))) view.set({ setup: fresh.id });
  };
  return (
    <>
      <Group mb={10} gap={8}>
        {job.doc.setups.length > 1 && (
          <SegmentedControl
            size="xs"
            value={view.setup}
            onChange={(v) => view.set({ setup: v })}
            data={job.doc.setups.map((s) => ({ value: s.id, label: s.name || s.id }))}
          />
        )}
        <Button size="xs" variant={setup ? "default" : "filled"} onClick={add} disabled={!job.doc.part}>
          Add a setup
        </Button>
      </Group>
      {!job.doc.part && <Text className="faint">Bring in a model first; a setup holds it.</Text>}
      {setup && <SetupForm key={setup.id} setup={setup} />}
    </>
  );
}

function SetupForm({ setup }: { setup: Setup }) {
  const job = useJob();
  const view = useView();
  const scene = useScene(setup.id);
  const dialects = useQuery({
    queryKey: ["dialects"],
    queryFn: () => take(api.GET("/api/dialects")),
    staleTime: Infinity,
  });
  const at = `setups/${setup.id}`;
  const put = (field: string, value: unknown, was: unknown, label = field) =>
    job.edit([{ path: `${at}/${field}`, value, was } as Edit], label);
  const setupSchema = useModelSchema("Setup");
  useEffect(() => {
    const take_ = (e: Event) => {
      if (view.picking !== "vertex" && view.picking !== "hole centre") return;
      put(
        "work_zero",
        { kind: "point", of: view.picking, place: (e as CustomEvent).detail },
        setup.work_zero,
        "work zero",
      );
      view.set({ picking: "" });
    };
    document.addEventListener("fenrik-point", take_);
    return () => document.removeEventListener("fenrik-point", take_);
  });
  const zero = setup.work_zero;
  const size = scene.data ? scene.data.stock_high.map((h, i) => h - scene.data!.stock_low[i]) : null;
  const offsets = [
    ...[54, 55, 56, 57, 58, 59].map((n) => ({ value: String(n), label: `G${n}` })),
    ...Array.from({ length: 48 }, (_, k) => ({ value: String(101 + k), label: `extended ${k + 1}` })),
  ];
  return (
    <>
      {scene.error && (
        <Text className="fault" mb={8}>
          {scene.error.message}
        </Text>
      )}
      {scene.data?.findings.map((x, k) => (
        <div key={k} className={`holder-note ${x.severity}`} data-testid="setup-finding">
          <b>
            {x.severity === "fault" ? "✕" : "△"} {x.kind}
          </b>{" "}
          {x.message} <span className="faint">{x.advice}</span>
        </div>
      ))}
      <UpForm setup={setup} cameFrom={scene.data?.came_from ?? ""} put={put} />
      <StockForm setup={setup} size={size} put={put} />
      <fieldset>
        <legend>Work zero</legend>
        <SegmentedControl
          size="xs"
          fullWidth
          mb={8}
          value={zero.kind === "box point" ? zero.of : "point"}
          data={[
            { value: "stock", label: "Stock box" },
            { value: "part", label: "Part box" },
            ...(zero.kind === "point" ? [{ value: "point", label: zero.of }] : []),
          ]}
          onChange={(of) =>
            of !== "point" &&
            put(
              "work_zero",
              { kind: "box point", of, at: zero.kind === "box point" ? zero.at : [0, 0, 1] },
              zero,
              "work zero",
            )
          }
        />
        <ZeroPoints
          at={zero.kind === "box point" ? zero.at : null}
          onPick={(p) =>
            put(
              "work_zero",
              { kind: "box point", of: zero.kind === "box point" ? zero.of : "stock", at: p },
              zero,
              "work zero",
            )
          }
        />
        <Group gap={6} mt={8}>
          <Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "vertex" })}>
            Pick a vertex
          </Button>
          <Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "hole centre" })}>
            Pick a hole centre
          </Button>
        </Group>
        <Select
          size="xs"
          mt={8}
          label="Work offset"
          allowDeselect={false}
          value={String(setup.work_offset)}
          data={offsets}
          onChange={(v) => put("work_offset", Number(v), setup.work_offset, "work offset")}
        />
      </fieldset>
      <FixtureForms setup={setup} />
      <GridForm setup={setup} put={put} />
      <fieldset>
        <legend>Machine</legend>
        <Select
          size="xs"
          label="Machine"
          value={setup.machine || null}
          placeholder="Choose a machine"
          data={job.doc.machines.map((m) => m.name)}
          onChange={(v) => put("machine", v ?? "", setup.machine, "machine")}
        />
        <Select
          size="xs"
          label="Controller"
          mt={6}
          allowDeselect={false}
          value={setup.dialect}
          data={(dialects.data ?? []).map((d) => d.name)}
          description={dialects.data?.find((d) => d.name === setup.dialect)?.description}
          onChange={(v) => put("dialect", v, setup.dialect, "controller")}
        />
        <div style={{ marginTop: 6 }}>
          <SchemaForm
            schema={pickFields(setupSchema, ["clearance_mm", "retract_mm", "table_below_mm"])}
            value={setup as never}
            onChange={(field, value, was) => put(field, value, was)}
          />
        </div>
        <details>
          <summary>Place on the table</summary>
          <div className="two">
            {[0, 1].map((k) => (
              <NumberField
                key={k}
                label={`Work zero ${"XY"[k]}`}
                hint="from the table's middle"
                unit="mm"
                optional
                placeholder="not said"
                value={setup.on_table_mm?.[k] ?? null}
                onCommit={(v) =>
                  put(
                    "on_table_mm",
                    v === null
                      ? null
                      : [k === 0 ? v : (setup.on_table_mm?.[0] ?? 0), k === 1 ? v : (setup.on_table_mm?.[1] ?? 0)],
                    setup.on_table_mm,
                    "place on the table",
                  )
                }
              />
            ))}
          </div>
        </details>
      </fieldset>
      <details>
        <summary>More</summary>
        <TextField label="Name" value={setup.name} onCommit={(v) => put("name", v, setup.name, "setup name")} />
        <Makes setup={setup} put={put} />
        <Button
          mt={8}
          size="compact-xs"
          variant="default"
          onClick={() =>
            job.edit(
              [
                ...job.doc.operations
                  .filter((o) => o.setup === setup.id)
                  .map((o) => ({ op: "remove" as const, path: `operations/${o.number}` })),
                { op: "remove", path: at },
              ],
              "remove setup",
            )
          }
        >
          Remove this setup with its operations
        </Button>
      </details>
    </>
  );
}

type Put = (field: string, value: unknown, was: unknown, label?: string) => Promise<string>;

const pickFields = (schema: ModelSchema | undefined, names: string[]) =>
  schema && { properties: Object.fromEntries(names.map((n) => [n, schema.properties[n]])) };

/** Which body the setup makes: the part, or a fixture that is made in the same job. */
function Makes({ setup, put }: { setup: Setup; put: Put }) {
  const part = usePart().data;
  const bodies = (part?.summary.bodies ?? []) as { name: string }[];
  if (bodies.length < 2) return null;
  return (
    <Select
      size="xs"
      mt={6}
      label="Makes"
      value={setup.makes}
      allowDeselect={false}
      data={[{ value: "", label: "the part" }, ...bodies.map((b) => ({ value: b.name, label: b.name }))]}
      onChange={(v) => put("makes", v, setup.makes, "makes")}
    />
  );
}

/** Which way is up: axes, faces, edges, points, holes, the view; flips and turns. */
function UpForm({ setup, cameFrom, put }: { setup: Setup; cameFrom: string; put: Put }) {
  const job = useJob();
  const view = useView();
  const part = usePart().data;
  const features = useFeatures().data;
  const [points, setPoints] = useState<Vec[]>([]);
  useEffect(() => {
    if (!part || (!view.faces.length && !view.edges.length)) return;
    const purpose = view.picking,
      done = () => view.set({ picking: "", faces: [], edges: [] });
    const face = part.faces[view.faces[view.faces.length - 1]],
      edge = view.edges[view.edges.length - 1];
    if (purpose === "up" && face) {
      done();
      if (!["plane", "cylinder", "cone", "torus"].includes(face.kind))
        return job.setNote("That face has no direction. Pick a flat or round face.");
      put("up", { kind: "face", face: face.reference }, setup.up, "up");
    }
    if (purpose === "up hole" && view.faces.length) {
      const hole = features?.holes?.find((h) => h.faces.includes(view.faces[0]));
      done();
      if (!hole) return job.setNote("There is no hole there. Click inside one.");
      put(
        "up",
        { kind: "direction", direction: hole.direction, came_from: `along the axis of ${hole.name}` },
        setup.up,
        "up",
      );
    }
    if ((purpose === "up edge" || purpose === "x along") && edge !== undefined) {
      done();
      referencesTo(job.id, [], [edge]).then(([reference]) =>
        purpose === "up edge"
          ? put("up", { kind: "edge", edge: reference }, setup.up, "up")
          : put("x_along", reference, setup.x_along, "x along"),
      );
    }
  });
  useEffect(() => {
    const hit = (e: Event) => {
      if (view.picking !== "up points") return;
      const next = [...points, (e as CustomEvent).detail.point as Vec];
      setPoints(next.length === 3 ? [] : next);
      if (next.length === 3) {
        view.set({ picking: "" });
        put("up", { kind: "points", points: next }, setup.up, "up");
      }
    };
    document.addEventListener("fenrik-hit", hit);
    return () => document.removeEventListener("fenrik-hit", hit);
  });
  const fromView = () => {
    const direction = (window as never as { fenrikLook?: Vec }).fenrikLook;
    if (direction) put("up", { kind: "direction", direction, came_from: "towards the eye" }, setup.up, "up");
  };
  const start = (picking: Purpose) => () => view.set({ picking, faces: [], edges: [] });
  const up = setup.up;
  return (
    <fieldset>
      <legend>
        Up:{" "}
        <span className="faint" data-testid="came-from">
          {cameFrom}
        </span>
      </legend>
      <div className="two">
        <Select
          size="xs"
          label="Direction"
          allowDeselect={false}
          value={up.kind === "axis" ? up.axis : "picked"}
          data={[
            ...["+z", "-z", "+x", "-x", "+y", "-y"].map((a) => ({
              value: a,
              label: `${a.toUpperCase().replace("-", "−")} of the part`,
            })),
            ...(up.kind !== "axis"
              ? [
                  {
                    value: "picked",
                    label:
                      up.kind === "face"
                        ? "A picked face"
                        : up.kind === "edge"
                          ? "A picked edge"
                          : up.kind === "points"
                            ? "Three points"
                            : "A direction",
                  },
                ]
              : []),
          ]}
          onChange={(a) => a && a !== "picked" && put("up", { kind: "axis", axis: a }, up, "up")}
        />
        <NumberField
          label="Turn about Z"
          unit="deg"
          value={setup.spin_deg}
          range={{ min: -360, max: 360 }}
          onCommit={(v) => put("spin_deg", v, setup.spin_deg, "turn")}
        />
      </div>
      <Group gap={6} mt={8}>
        <Button size="compact-xs" variant="default" onClick={start("up")}>
          Pick the face that looks up
        </Button>
        <Menu>
          <Menu.Target>
            <Button size="compact-xs" variant="default">
              Other picks
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={start("up edge")}>An edge points up</Menu.Item>
            <Menu.Item onClick={start("up hole")}>A hole's axis points up</Menu.Item>
            <Menu.Item
              onClick={() => {
                setPoints([]);
                start("up points")();
              }}
            >
              Three points lie level
            </Menu.Item>
            <Menu.Item onClick={fromView}>Up is towards the eye</Menu.Item>
            <Menu.Item onClick={start("x along")}>X runs along an edge</Menu.Item>
            {setup.x_along && (
              <Menu.Item onClick={() => put("x_along", null, setup.x_along, "x along")}>X as it falls</Menu.Item>
            )}
          </Menu.Dropdown>
        </Menu>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => put("spin_deg", ((setup.spin_deg + 90 + 180) % 360) - 180, setup.spin_deg, "turn")}
        >
          Turn 90°
        </Button>
        <Switch
          size="xs"
          label="Upside down"
          checked={setup.flip}
          onChange={(e) => put("flip", e.currentTarget.checked, setup.flip, "upside down")}
        />
      </Group>
    </fieldset>
  );
}

/** The stock: its shape, allowances, rounding up to what the shop keeps. */
function StockForm({ setup, size, put }: { setup: Setup; size: number[] | null; put: Put }) {
  const job = useJob();
  const part = usePart().data;
  const kinds = useKinds("Setup", "stock");
  const stock = setup.stock;
  const bodies = ((part?.summary.bodies ?? []) as { name: string }[]).map((b) => b.name);
  const earlier = job.doc.setups
    .slice(
      0,
      job.doc.setups.findIndex((s) => s.id === setup.id),
    )
    .map((s) => ({ value: s.id, label: s.name || s.id }));
  const meshes = job.doc.files.filter((n) => !/\.(dxf|svg)$/i.test(n));
  const choose = (kind: string) => {
    const seed = { body: bodies[bodies.length - 1], file: meshes[0], setup: earlier[earlier.length - 1]?.value };
    const need = { body: "body", file: "file", "earlier setup": "setup" }[kind] as keyof typeof seed | undefined;
    if (need && !seed[need])
      return job.setNote(
        {
          body: "The model has no other body.",
          file: "Bring the stock's file in first.",
          setup: "There is no setup before this one.",
        }[need],
      );
    return void put("stock", freshOf(kind, kinds[kind], seed), stock, "stock");
  };
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      await put("stock", { kind: "file", file: keptName(file) }, stock, "stock");
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  const choices: Record<string, React.ReactNode> = {
    body: (
      <Select
        key="b"
        size="xs"
        label="Body"
        value={String(stock.body)}
        data={bodies}
        allowDeselect={false}
        onChange={(v) => put("stock/body", v, stock.body, "stock body")}
      />
    ),
    file: (
      <Select
        key="f"
        size="xs"
        label="File"
        value={String(stock.file)}
        data={meshes}
        allowDeselect={false}
        onChange={(v) => put("stock/file", v, stock.file, "stock file")}
      />
    ),
    setup: (
      <Select
        key="s"
        size="xs"
        label="After setup"
        value={String(stock.setup)}
        data={earlier}
        allowDeselect={false}
        onChange={(v) => put("stock/setup", v, stock.setup, "stock")}
      />
    ),
  };
  return (
    <fieldset>
      <legend>Stock</legend>
      <Group gap={6} mb={6} align="end" wrap="nowrap">
        <Select
          size="xs"
          style={{ flex: 1 }}
          label="Shape"
          value={stock.kind}
          data={Object.keys(kinds).map((k) => ({ value: k, label: k === "box" ? "block" : k }))}
          allowDeselect={false}
          onChange={(k) => k && k !== stock.kind && choose(k)}
        />
        <PickFile accept=".step,.stp,.stl,.3mf,.obj,.brep,.iges,.igs" size="xs" variant="default" onFile={bring}>
          From a file
        </PickFile>
      </Group>
      <SchemaForm
        schema={kinds[stock.kind]}
        value={stock}
        skip={["kind"]}
        folded={["round_up"]}
        special={choices}
        onChange={(field, value, was) => put(`stock/${field}`, value, was, "stock")}
      />
      {size && (
        <Text mt={6} className="faint">
          {stock.kind === "box" ? "Block" : "Box"} of {size.map((v) => v.toFixed(2)).join(" × ")} mm
        </Text>
      )}
    </fieldset>
  );
}

const FIXTURES = ["vice", "toe clamp", "plate", "chuck"];

/** What holds the part: added from a list, placed by numbers or by picking two faces. */
function FixtureForms({ setup }: { setup: Setup }) {
  const job = useJob();
  const view = useView();
  const scene = useScene(setup.id).data;
  const kinds = useKinds("Setup", "fixtures");
  const place = useModelSchema("Place");
  const part = usePart().data;
  const at = `setups/${setup.id}/fixtures`;
  const [seat, setSeat] = useState<{ face: number } | null>(null);
  const others = ((part?.summary.bodies ?? []) as { name: string }[])
    .filter((_, k) => part?.roles[k] === "fixture")
    .map((b) => b.name);
  const add = (kind: string, more: Record<string, unknown> = {}) => {
    const id = freshId(
      kind,
      setup.fixtures.map((f) => f.id),
    );
    return job.edit(
      [{ op: "add", path: at, value: { kind, id, name: kind[0].toUpperCase() + kind.slice(1), ...more } }],
      `add ${kind}`,
    );
  };
  useEffect(() => {
    const hit = async (e: Event) => {
      if (view.picking !== "seat") return;
      const d = (e as CustomEvent).detail as { face: number; on: string };
      if (d.on === view.fixture) return setSeat({ face: d.face });
      if (!seat) return job.setNote("Click a face of the fixture first, then the face it shall lie on.");
      view.set({ picking: "" });
      setSeat(null);
      await job.run(() =>
        take(
          api.POST("/api/jobs/{job_id}/setups/{setup_id}/fixtures/{fixture_id}/seat", {
            params: { path: { job_id: job.id, setup_id: setup.id, fixture_id: view.fixture } },
            body: {
              face: seat.face,
              on: d.on === "part" ? "part" : "fixture",
              fixture: d.on === "part" ? "" : d.on,
              target_face: d.face,
            },
          }),
        ),
      );
    };
    document.addEventListener("fenrik-hit", hit);
    return () => document.removeEventListener("fenrik-hit", hit);
  });
  const close = (id: string) =>
    job.run(() =>
      take(
        api.POST("/api/jobs/{job_id}/setups/{setup_id}/fixtures/{fixture_id}/close-gap", {
          params: { path: { job_id: job.id, setup_id: setup.id, fixture_id: id } },
        }),
      ),
    );
  return (
    <fieldset>
      <legend>Held by</legend>
      {setup.fixtures.map((f) => {
        const gap = scene?.fixtures.find((s) => s.id === f.id)?.gap_to_table_mm ?? 0;
        const put = (field: string, value: unknown, was: unknown) =>
          job.edit([{ path: `${at}/${f.id}/${field}`, value, was }], f.name || f.kind);
        return (
          <details key={f.id} className="fixture">
            <summary onClick={() => view.set({ fixture: f.id })}>
              {f.name || f.kind}{" "}
              <span className="faint">
                {f.kind}
                {Math.abs(gap) > 1e-3
                  ? ` · ${Math.abs(gap).toFixed(2)} mm ${gap > 0 ? "above" : "into"} the table`
                  : " · on the table"}
              </span>
            </summary>
            <SchemaForm schema={kinds[f.kind]} value={f} skip={["id", "kind", "place"]} onChange={put} />
            {f.kind !== "body" && (
              <>
                <Text mt={6} mb={2} className="faint">
                  Place, from the middle of the stock's underside
                </Text>
                <SchemaForm
                  schema={place}
                  value={f.place}
                  onChange={(field, value, was) => put(`place/${field}`, value, was)}
                />
              </>
            )}
            <Group gap={6} my={8}>
              {f.kind !== "body" && (
                <Button
                  size="compact-xs"
                  variant={view.picking === "seat" && view.fixture === f.id ? "filled" : "default"}
                  onClick={() => {
                    setSeat(null);
                    view.set({ picking: "seat", fixture: f.id, faces: [], edges: [] });
                  }}
                >
                  Seat by picking
                </Button>
              )}
              {f.kind !== "body" && (
                <Button size="compact-xs" variant="default" disabled={Math.abs(gap) < 1e-3} onClick={() => close(f.id)}>
                  Close the gap
                </Button>
              )}
              <Button
                size="compact-xs"
                variant="default"
                aria-label={`Remove ${f.name || f.kind}`}
                onClick={() => job.edit([{ op: "remove", path: `${at}/${f.id}` }], "remove fixture")}
              >
                Remove
              </Button>
            </Group>
            {view.picking === "seat" && view.fixture === f.id && (
              <Text className="faint" mb={6}>
                {seat ? "Now the face that it shall lie on." : "Click a face of the fixture."}
              </Text>
            )}
          </details>
        );
      })}
      <Menu>
        <Menu.Target>
          <Button size="compact-xs" variant="default">
            Add a fixture
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {FIXTURES.map((k) => (
            <Menu.Item key={k} onClick={() => add(k)}>
              {k}
            </Menu.Item>
          ))}
          {others.map((b) => (
            <Menu.Item key={b} onClick={() => add("body", { body: b, name: b })}>
              body {b}
            </Menu.Item>
          ))}
          {job.doc.files
            .filter((n) => !/\.(dxf|svg)$/i.test(n))
            .map((n) => (
              <Menu.Item key={n} onClick={() => add("file", { file: n, name: n })}>
                file {n}
              </Menu.Item>
            ))}
        </Menu.Dropdown>
      </Menu>
    </fieldset>
  );
}

function GridForm({ setup, put }: { setup: Setup; put: Put }) {
  const schema = useModelSchema("Grid");
  const scene = useScene(setup.id).data;
  const pitch = (k: number) => Math.ceil(((scene?.part_high[k] ?? 40) - (scene?.part_low[k] ?? 0) + 12) / 5) * 5;
  return (
    <fieldset>
      <legend>Grid of parts</legend>
      <Switch
        size="xs"
        label="The same part many times"
        checked={!!setup.grid}
        onChange={(e) =>
          put(
            "grid",
            e.currentTarget.checked ? { columns: 2, rows: 2, pitch_x_mm: pitch(0), pitch_y_mm: pitch(1) } : null,
            setup.grid,
            "grid",
          )
        }
      />
      {setup.grid && (
        <div style={{ marginTop: 6 }}>
          <SchemaForm
            schema={schema}
            value={setup.grid}
            onChange={(field, value, was) => put(`grid/${field}`, value, was, "grid")}
          />
        </div>
      )}
    </fieldset>
  );
}

/** All setups as rows: how each lies, its stock, what holds it, what is to be looked at. */
export function SetupBench() {
  const job = useJob();
  const view = useView();
  return (
    <div className="scroll">
      <table className="dense" aria-label="Setups">
        <thead>
          <tr>
            <th>Setup</th>
            <th>Up</th>
            <th>Stock, mm</th>
            <th>Held by</th>
            <th className="n">Parts</th>
            <th>Offset</th>
            <th>Machine</th>
            <th>To look at</th>
          </tr>
        </thead>
        <tbody>
          {job.doc.setups.map((s) => (
            <SetupRow key={s.id} setup={s} chosen={s.id === view.setup} onChoose={() => view.set({ setup: s.id })} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function SetupRow({ setup: s, chosen, onChoose }: { setup: Setup; chosen: boolean; onChoose: () => void }) {
  const scene = useScene(s.id);
  const x = scene.data;
  return (
    <tr aria-selected={chosen} tabIndex={0} onClick={onChoose} onKeyDown={(e) => e.key === "Enter" && onChoose()}>
      <td>{s.name || s.id}</td>
      <td>{x?.came_from}</td>
      <td>
        {x &&
          `${s.stock.kind === "box" ? "block" : s.stock.kind} ${x.stock_high.map((h, i) => (h - x.stock_low[i]).toFixed(1)).join(" × ")}`}
      </td>
      <td>{s.fixtures.map((f) => f.name || f.kind).join(", ") || "–"}</td>
      <td className="n">{x?.copies.length ?? 1}</td>
      <td>{s.work_offset < 100 ? `G${s.work_offset}` : `extended ${s.work_offset - 100}`}</td>
      <td>{s.machine || "–"}</td>
      <td className={x?.findings.length || scene.error ? "warn" : ""}>
        {scene.error ? scene.error.message : x?.findings.map((n) => n.kind).join(", ") || "✓"}
      </td>
    </tr>
  );
}

const LEVELS = [
  { z: 1, name: "top" },
  { z: 0, name: "middle" },
  { z: -1, name: "bottom" },
] as const;
const SIDES = { x: { [-1]: "left", 0: "middle", 1: "right" }, y: { [-1]: "front", 0: "middle", 1: "back" } } as Record<
  string,
  Record<number, string>
>;

/** The 27 points of a box as three planes seen from above. */
function ZeroPoints({ at, onPick }: { at: Vec | null; onPick: (at: Vec) => void }) {
  return (
    <div className="zero27">
      {LEVELS.map(({ z, name }) => (
        <div key={z}>
          <div className="faint">{name}</div>
          <div className="plane">
            {[1, 0, -1].map((y) =>
              [-1, 0, 1].map((x) => {
                const on = !!at && at[0] === x && at[1] === y && at[2] === z;
                return (
                  <button
                    key={`${x}${y}`}
                    type="button"
                    aria-pressed={on}
                    aria-label={`${name}, ${SIDES.y[y]}, ${SIDES.x[x]}`}
                    onClick={() => onPick([x, y, z])}
                  >
                    {on ? "●" : "·"}
                  </button>
                );
              }),
            )}
          </div>
        </div>
      ))}
    </div>
  );
}
