import { Button, Group, Select, Text } from "@mantine/core";
import type { EdgeReference, FaceSelector, Operation, Target } from "../job/document";
import { useScene } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { referencesTo } from "./PartSheet";

/** The sketches that fence an operation: parameter, label, what stands there when none is chosen. */
export const FENCES = [
  ["stay_in", "Stay inside of", "everywhere"],
  ["keep_out", "Keep out of", "nothing"],
] as const;

const words = (t: Target): string => {
  const many = (n: number, what: string) => `${n} ${what}${n > 1 ? "s" : ""}`;
  if (t.kind === "faces") return many(t.faces.length, "face");
  if (t.kind === "edges") return many(t.edges.length, "edge");
  if (t.kind === "sharp edges") return `sharp edges of ${t.faces?.length ? many(t.faces.length, "face") : "the part"}`;
  if (t.kind === "sketch") return `sketch ${t.sketch}${t.items?.length ? `: ${t.items.join(", ")}` : ""}`;
  return "outline of the part";
};

/** What an operation is applied to: picked faces and edges, sketches, the outline; each can be taken out again. */
export function RouteGeometry({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const view = useView();
  const scene = useScene(view.setup);
  const targets = (o.params.targets ?? []) as Target[];
  const put = (value: Target[], label: string) =>
    job.edit([{ path: `operations/${o.number}/params/targets`, value, was: targets }], label);
  const picked = view.faces.length + view.edges.length;
  const takePicked = async () => {
    const found = await referencesTo(job.id, view.faces, view.edges);
    const faces = found.filter((r) => !("edge" in r)) as FaceSelector[],
      edges = found.filter((r) => "edge" in r) as EdgeReference[];
    const more: Target[] = [
      ...(faces.length ? [{ kind: "faces" as const, faces }] : []),
      ...(edges.length ? [{ kind: "edges" as const, edges }] : []),
    ];
    if (!(await put([...targets, ...more], `${o.number} geometry`))) view.set({ faces: [], edges: [] });
  };
  const takeSharp = async () => {
    const faces = view.faces.length ? ((await referencesTo(job.id, view.faces, [])) as FaceSelector[]) : [];
    if (!(await put([...targets, { kind: "sharp edges", faces }], "sharp edges"))) view.set({ faces: [], edges: [] });
  };
  const takeHeight = async (end: "top" | "bottom") => {
    const [face] = await referencesTo(job.id, view.faces, []);
    if (
      !(await job.edit(
        [{ path: `operations/${o.number}/params/${end}_pick`, value: face, was: o.params[`${end}_pick`] ?? null }],
        `${end} at a face`,
      ))
    )
      view.set({ faces: [], edges: [] });
  };
  const takeStart = () => {
    const s = scene.data!,
      from = view.place!.map((v, i) => v - (s.origin as number[])[i]);
    const [x, y] = [0, 1].map(
      (c) => Math.round(s.rotation.reduce((sum, row, i) => sum + row[c] * from[i], 0) * 1000) / 1000,
    );
    job.edit(
      [
        { path: `operations/${o.number}/params/start_x_mm`, value: x, was: o.params.start_x_mm },
        { path: `operations/${o.number}/params/start_y_mm`, value: y, was: o.params.start_y_mm },
      ],
      "start",
    );
  };
  return (
    <fieldset>
      <legend>Geometry</legend>
      {targets.map((t, k) => (
        <Group key={k} justify="space-between" mb={4}>
          <span>{words(t)}</span>
          <Button
            size="compact-xs"
            variant="default"
            aria-label={`Take out ${words(t)}`}
            onClick={() =>
              put(
                targets.filter((_, j) => j !== k),
                "take out geometry",
              )
            }
          >
            Take out
          </Button>
        </Group>
      ))}
      {!targets.length && (
        <Text className="warn" mb={6}>
          △ Nothing yet. Pick faces or edges in the viewport, then take them.
        </Text>
      )}
      <Group gap={6} mt={4}>
        <Button size="compact-sm" variant={picked ? "filled" : "default"} disabled={!picked} onClick={takePicked}>
          {picked ? `Take what is picked (${picked})` : "Take what is picked"}
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          disabled={targets.some((t) => t.kind === "outline")}
          onClick={() => put([...targets, { kind: "outline" }], "outline")}
        >
          Outline
        </Button>
        {o.params.strategy === "edge chamfer" && (
          <Button size="compact-sm" variant="default" onClick={takeSharp}>
            {view.faces.length ? `Sharp edges of ${view.faces.length} picked` : "All sharp edges"}
          </Button>
        )}
      </Group>
      {job.doc.sketches.length > 0 && (
        <Select
          size="xs"
          mt={6}
          aria-label="Sketch to follow"
          placeholder="Add a sketch"
          value={null}
          data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
          onChange={(v) => v && put([...targets, { kind: "sketch", sketch: v }], "sketch")}
        />
      )}
      {job.doc.sketches.length > 0 &&
        FENCES.map(([name, label, none]) => (
          <Select
            key={name}
            size="xs"
            mt={6}
            label={label}
            clearable
            placeholder={none}
            value={(o.params[name] as string) || null}
            data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
            onChange={(v) =>
              job.edit(
                [{ path: `operations/${o.number}/params/${name}`, value: v ?? "", was: o.params[name] ?? "" }],
                label.toLowerCase(),
              )
            }
          />
        ))}
      {(["top", "bottom"] as const)
        .filter((end) => o.params[`${end}_from`] === "a pick")
        .map((end) => (
          <Group key={end} gap={6} mt={6}>
            <Button
              size="compact-xs"
              variant="default"
              disabled={view.faces.length !== 1}
              onClick={() => takeHeight(end)}
            >
              {end === "top" ? "Top" : "Bottom"} at the picked face
            </Button>
            <Text className={o.params[`${end}_pick`] ? "faint" : "warn"}>
              {o.params[`${end}_pick`] ? "✓ a face is picked" : "△ pick one face in the part"}
            </Text>
          </Group>
        ))}
      {o.params.start === "near a place" && (
        <Button mt={6} size="compact-xs" variant="default" disabled={!view.place || !scene.data} onClick={takeStart}>
          Start near the place clicked last
        </Button>
      )}
    </fieldset>
  );
}
