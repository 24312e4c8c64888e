import { Button, Group, SegmentedControl, Select, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take, type Schemas } from "../../api/client";
import { NumberField } from "../../forms/NumberField";
import { onlyFields, SchemaForm, TextField, useModelSchema } from "../../forms/SchemaForm";
import type { Setup } from "../../job/document";
import { MARK, pick, useClicks, usePicks } from "../../job/picking";
import { usePart, useScene } from "../../job/queries";
import { type Edit, useJob } from "../../job/useJob";
import type { Put } from "./fields";
import { FixtureForms } from "./FixtureForms";
import { GridForm } from "./GridForm";
import { StockForm } from "./StockForm";
import { UpForm } from "./UpForm";
import { ZeroPoints } from "./ZeroPoints";

export function SetupForm({ setup }: { setup: Setup }) {
  const job = useJob();
  const picks = usePicks();
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
  const shop = useQuery({
    queryKey: ["shop machines"],
    queryFn: () => take(api.GET("/api/library/machines")),
    staleTime: Infinity,
  });
  const own = [...job.doc.machines, ...job.doc.cells].map((m) => m.name);
  const others = [...(shop.data?.machines ?? []), ...(shop.data?.cells ?? [])].map((m) => m.name);
  const offered = [
    { group: "In this job", items: own },
    { group: "From the shop", items: others.filter((n) => !own.includes(n)) },
  ];
  const isCell = (name: string) => [...job.doc.cells, ...(shop.data?.cells ?? [])].some((c) => c.name === name);
  const drives = isCell(setup.machine) ? "arms" : "machines";
  /** Takes a machine, with a copy of the shop's where the job has none, and a controller that drives it. */
  const choose = (name: string) => {
    const edits: Edit[] = [];
    if (name && !own.includes(name)) {
      const machine = shop.data?.machines.find((m) => m.name === name),
        cell = shop.data?.cells.find((c) => c.name === name);
      edits.push({ op: "add", path: machine ? "machines" : "cells", value: machine ?? cell });
    }
    edits.push({ path: `${at}/machine`, value: name, was: setup.machine });
    const wanted = isCell(name) ? "arms" : "machines";
    const machine = [...job.doc.machines, ...(shop.data?.machines ?? [])].find((m) => m.name === name);
    const turning = machine?.joints?.some((j) => j.kind === "rotary") ?? false;
    const fits = (d: Schemas["ControllerTold"]) => d.drives === wanted && (!turning || d.turns);
    const now = dialects.data?.find((d) => d.name === setup.dialect);
    const fitting = dialects.data?.find(fits);
    if (fitting && !(now && fits(now))) edits.push({ path: `${at}/dialect`, value: fitting.name, was: setup.dialect });
    return job.edit(edits, "machine");
  };
  useClicks(({ on, point }) => {
    if (on !== MARK || (picks.purpose !== "vertex" && picks.purpose !== "hole centre")) return;
    put("work_zero", { kind: "point", of: picks.purpose, place: point }, setup.work_zero, "work zero");
    pick({ purpose: "" });
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
          <Button size="compact-xs" variant="default" onClick={() => pick({ purpose: "vertex" })}>
            Pick a vertex
          </Button>
          <Button size="compact-xs" variant="default" onClick={() => pick({ purpose: "hole centre" })}>
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
          data={offered}
          onChange={(v) => void choose(v ?? "")}
        />
        <Select
          size="xs"
          label="Controller"
          mt={6}
          allowDeselect={false}
          value={setup.dialect}
          data={(dialects.data ?? []).filter((d) => d.drives === drives).map((d) => d.name)}
          description={dialects.data?.find((d) => d.name === setup.dialect)?.description}
          onChange={(v) => put("dialect", v, setup.dialect, "controller")}
        />
        <div style={{ marginTop: 6 }}>
          <SchemaForm
            schema={onlyFields(setupSchema, ["clearance_mm", "retract_mm", "table_below_mm"])}
            value={setup}
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
