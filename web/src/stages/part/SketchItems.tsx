import { Button, Menu, NumberInput, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, take } from "../../api/client";
import { keptName, PickFile, withFile } from "../../forms/PickFile";
import { freshOf, SchemaForm, useKinds } from "../../forms/SchemaForm";
import { freshId, type Sketch } from "../../job/document";
import { usePicks } from "../../job/picking";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { f, referencesTo } from "./references";

type Kinds = ReturnType<typeof useKinds>;

export function AddItem({ sketch, kinds }: { sketch: Sketch; kinds: Kinds }) {
  const job = useJob();
  const view = useView();
  const picks = usePicks();
  const put = (value: Record<string, unknown>) =>
    job.edit([{ op: "add", path: `sketches/${sketch.id}/items`, value }], `add ${value.kind}`);
  const add = async (kind: string) => {
    const id = freshId(
        kind,
        sketch.items.map((i) => i.id),
      ),
      last = sketch.items[sketch.items.length - 1]?.id ?? "";
    if (kind === "edges") {
      if (!picks.edges.length)
        return job.setNote("Pick edges in the viewport first (set the click to take edges), then add them.");
      return put({ id, kind, edges: await referencesTo(job.id, [], picks.edges) });
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
        w={100}
        aria-label="Level, mm"
        leftSection="Z"
        rightSection="mm"
        rightSectionWidth={36}
        hideControls
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

export function SketchItems({
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
