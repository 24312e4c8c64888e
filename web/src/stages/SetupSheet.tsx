import { Button, Group, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, take } from "../api/client";
import { NumberField } from "../forms/NumberField";
import { SchemaForm, useModelSchema } from "../forms/SchemaForm";
import type { Setup, Vec } from "../job/document";
import { usePart, useScene } from "../job/queries";
import { useJob, type Edit } from "../job/useJob";
import { useView } from "../job/view";

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
        {job.doc.setups.length > 1 && <SegmentedControl size="xs" value={view.setup} onChange={(v) => view.set({ setup: v })} data={job.doc.setups.map((s) => ({ value: s.id, label: s.name || s.id }))} />}
        <Button size="xs" variant={setup ? "default" : "filled"} onClick={add} disabled={!job.doc.part}>Add a setup</Button>
      </Group>
      {!job.doc.part && <Text className="faint">Bring in a model first; a setup holds it.</Text>}
      {setup && <SetupForm key={setup.id} setup={setup} />}
    </>
  );
}

function SetupForm({ setup }: { setup: Setup }) {
  const job = useJob();
  const view = useView();
  const part = usePart();
  const scene = useScene(setup.id);
  const stock = useModelSchema("BoxStock");
  const dialects = useQuery({ queryKey: ["dialects"], queryFn: () => take(api.GET("/api/dialects")), staleTime: Infinity });
  const [name, setName] = useState(setup.name);
  useEffect(() => setName(setup.name), [setup.name]);
  const at = `setups/${setup.id}`;
  const put = (field: string, value: unknown, was: unknown, label = field) => job.edit([{ path: `${at}/${field}`, value, was } as Edit], label);

  useEffect(() => {
    if (view.picking !== "up" || !view.faces.length || !part.data) return;
    const face = part.data.faces[view.faces[view.faces.length - 1]];
    if (face.kind !== "plane") return job.setNote("That face is not flat. Pick a flat face to look up.");
    view.set({ picking: "", faces: [] });
    put("up", { kind: "face", face: face.reference }, setup.up, "up");
  });
  useEffect(() => {
    const take_ = (e: Event) => {
      if (view.picking !== "vertex" && view.picking !== "hole centre") return;
      put("work_zero", { kind: "point", of: view.picking, place: (e as CustomEvent).detail }, setup.work_zero, "work zero");
      view.set({ picking: "" });
    };
    document.addEventListener("fenrik-point", take_);
    return () => document.removeEventListener("fenrik-point", take_);
  });
  const zero = setup.work_zero;
  const size = scene.data ? scene.data.stock_high.map((h, i) => h - scene.data.stock_low[i]) : null;
  return (
    <>
      <fieldset>
        <legend>Up</legend>
        <div className="two">
          <Select size="xs" label="Direction" allowDeselect={false} value={setup.up.kind === "axis" ? setup.up.axis : "picked face"}
            data={[...["+z", "-z", "+x", "-x", "+y", "-y"].map((a) => ({ value: a, label: `${a.toUpperCase().replace("-", "−")} of the part` })), ...(setup.up.kind === "face" ? [{ value: "picked face", label: "A picked face" }] : [])]}
            onChange={(a) => a && a !== "picked face" && put("up", { kind: "axis", axis: a }, setup.up, "up")} />
          <NumberField label="Turn about Z" unit="deg" value={setup.spin_deg} range={{ min: -360, max: 360 }} onCommit={(v) => put("spin_deg", v, setup.spin_deg, "turn")} />
        </div>
        <Button size="compact-xs" variant="default" mt={8} onClick={() => view.set({ picking: "up", faces: [] })}>Pick the face that looks up</Button>
      </fieldset>
      <fieldset>
        <legend>Stock: block with allowances</legend>
        <SchemaForm schema={stock} value={setup.stock} skip={["kind"]} onChange={(field, value, was) => put(`stock/${field}`, value, was, "stock")} />
        {size && <Text mt={6} className="faint">Block of {size.map((v) => v.toFixed(2)).join(" × ")} mm</Text>}
        {scene.error && <Text className="fault">{scene.error.message}</Text>}
      </fieldset>
      <fieldset>
        <legend>Work zero</legend>
        <SegmentedControl size="xs" fullWidth mb={8} value={zero.kind === "box point" ? zero.of : "point"}
          data={[{ value: "stock", label: "Stock box" }, { value: "part", label: "Part box" }, ...(zero.kind === "point" ? [{ value: "point", label: zero.of }] : [])]}
          onChange={(of) => of !== "point" && put("work_zero", { kind: "box point", of, at: zero.kind === "box point" ? zero.at : [0, 0, 1] }, zero, "work zero")} />
        <ZeroPoints at={zero.kind === "box point" ? zero.at : null} onPick={(p) => put("work_zero", { kind: "box point", of: zero.kind === "box point" ? zero.of : "stock", at: p }, zero, "work zero")} />
        <Group gap={6} mt={8}>
          <Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "vertex" })}>Pick a vertex</Button>
          <Button size="compact-xs" variant="default" onClick={() => view.set({ picking: "hole centre" })}>Pick a hole centre</Button>
        </Group>
        <Select size="xs" mt={8} label="Work offset" allowDeselect={false} value={String(setup.work_offset)} data={[54, 55, 56, 57, 58, 59].map((n) => ({ value: String(n), label: `G${n}` }))} onChange={(v) => put("work_offset", Number(v), setup.work_offset, "work offset")} />
      </fieldset>
      <fieldset>
        <legend>Machine</legend>
        <Select size="xs" label="Machine" value={setup.machine || null} placeholder="Choose a machine" data={job.doc.machines.map((m) => m.name)} onChange={(v) => put("machine", v ?? "", setup.machine, "machine")} />
        <Select size="xs" label="Controller" mt={6} allowDeselect={false} value={setup.dialect} data={(dialects.data ?? []).map((d) => d.name)} description={dialects.data?.find((d) => d.name === setup.dialect)?.description} onChange={(v) => put("dialect", v, setup.dialect, "controller")} />
        <div className="two" style={{ marginTop: 6 }}>
          <NumberField label="Clearance height" unit="mm" value={setup.clearance_mm} range={{ above: 0, max: 1000 }} hint="above the stock" onCommit={(v) => put("clearance_mm", v, setup.clearance_mm, "clearance height")} />
          <NumberField label="Retract height" unit="mm" value={setup.retract_mm} range={{ above: 0, max: setup.clearance_mm }} hint="above the stock" onCommit={(v) => put("retract_mm", v, setup.retract_mm, "retract height")} />
        </div>
      </fieldset>
      <details>
        <summary>More</summary>
        <TextInput size="xs" label="Name" value={name} onChange={(e) => setName(e.currentTarget.value)} onBlur={() => name !== setup.name && put("name", name, setup.name, "setup name")} />
        <Button mt={8} size="compact-xs" variant="default" onClick={() => job.edit([...job.doc.operations.filter((o) => o.setup === setup.id).map((o) => ({ op: "remove" as const, path: `operations/${o.number}` })), { op: "remove", path: at }], "remove setup")}>Remove this setup with its operations</Button>
      </details>
    </>
  );
}

const LEVELS = [{ z: 1, name: "top" }, { z: 0, name: "middle" }, { z: -1, name: "bottom" }] as const;
const SIDES = { x: { [-1]: "left", 0: "middle", 1: "right" }, y: { [-1]: "front", 0: "middle", 1: "back" } } as Record<string, Record<number, string>>;

/** The 27 points of a box as three planes seen from above. */
function ZeroPoints({ at, onPick }: { at: Vec | null; onPick: (at: Vec) => void }) {
  return (
    <div className="zero27">
      {LEVELS.map(({ z, name }) => (
        <div key={z}>
          <div className="faint">{name}</div>
          <div className="plane">
            {[1, 0, -1].map((y) => [-1, 0, 1].map((x) => {
              const on = !!at && at[0] === x && at[1] === y && at[2] === z;
              return <button key={`${x}${y}`} type="button" aria-pressed={on} aria-label={`${name}, ${SIDES.y[y]}, ${SIDES.x[x]}`} onClick={() => onPick([x, y, z])}>{on ? "●" : "·"}</button>;
            }))}
          </div>
        </div>
      ))}
    </div>
  );
}
