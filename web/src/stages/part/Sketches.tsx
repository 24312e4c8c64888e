import { Button, Group, Select, Text } from "@mantine/core";
import { useKinds } from "../../forms/SchemaForm";
import { freshId } from "../../job/document";
import { useCurves } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { AddItem, SketchItems } from "./SketchItems";

export function Sketches() {
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
