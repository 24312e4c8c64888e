import { Button, Group, Select, Text } from "@mantine/core";
import type { AnyOf, EdgeReference, FaceSelector, Operation, Params, Sketch, Target } from "../../job/document";
import { pick, usePicks } from "../../job/picking";
import { useScene } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { referencesTo } from "../part/references";
import { FenceFields } from "./FenceFields";

const words = (t: Target, sketches: Sketch[]): string => {
  const named = (id: string) => sketches.find((s) => s.id === id)?.name || id;
  const many = (n: number, what: string) => `${n} ${what}${n > 1 ? "s" : ""}`;
  if (t.kind === "faces") return many(t.faces.length, "face");
  if (t.kind === "edges") return many(t.edges.length, "edge");
  if (t.kind === "sharp edges") return `sharp edges of ${t.faces?.length ? many(t.faces.length, "face") : "the part"}`;
  if (t.kind === "sketch on faces")
    return `sketch ${named(t.sketch)} on ${t.faces?.length ? many(t.faces.length, "face") : "the part"}`;
  if (t.kind === "sketch") return `sketch ${named(t.sketch)}${t.items?.length ? `: ${t.items.join(", ")}` : ""}`;
  return "outline of the part";
};

const pickable = (takes: string[]) =>
  ["faces", "edges"].filter((kind) => takes.includes(kind)).join(" or ") || "geometry";

/** What an operation is applied to: picked faces and edges, sketches, the outline; each can be taken out again. */
export function RouteGeometry({ operation: o, takes }: { operation: Operation; takes: string[] }) {
  const job = useJob();
  const view = useView();
  const picks = usePicks();
  const scene = useScene(view.setup);
  const params: AnyOf<Params> = o.params;
  const targets = params.targets ?? [];
  const put = (value: Target[], label: string) =>
    job.edit([{ path: `operations/${o.number}/params/targets`, value, was: targets }], label);
  const picked =
    (takes.includes("faces") ? picks.faces.length : 0) + (takes.includes("edges") ? picks.edges.length : 0);
  const takePicked = async () => {
    const found = await referencesTo(job.id, picks.faces, picks.edges);
    const faces = found.filter((r) => !("edge" in r)) as FaceSelector[],
      edges = found.filter((r) => "edge" in r) as EdgeReference[];
    const more: Target[] = [
      ...(faces.length && takes.includes("faces") ? [{ kind: "faces" as const, faces }] : []),
      ...(edges.length && takes.includes("edges") ? [{ kind: "edges" as const, edges }] : []),
    ];
    if (!(await put([...targets, ...more], `${o.number} geometry`))) pick({ faces: [], edges: [] });
  };
  const takeSharp = async () => {
    const faces = picks.faces.length ? ((await referencesTo(job.id, picks.faces, [])) as FaceSelector[]) : [];
    if (!(await put([...targets, { kind: "sharp edges", faces }], "sharp edges"))) pick({ faces: [], edges: [] });
  };
  const lay = async (sketch: string) => {
    const faces = picks.faces.length ? ((await referencesTo(job.id, picks.faces, [])) as FaceSelector[]) : [];
    const target = { kind: "sketch on faces" as const, sketch, items: [], faces };
    if (!(await put([...targets, target], "sketch on faces"))) pick({ faces: [], edges: [] });
  };
  const takeHeight = async (end: "top" | "bottom") => {
    const [face] = await referencesTo(job.id, picks.faces, []);
    if (
      !(await job.edit(
        [{ path: `operations/${o.number}/params/${end}_pick`, value: face, was: params[`${end}_pick`] ?? null }],
        `${end} at a face`,
      ))
    )
      pick({ faces: [], edges: [] });
  };
  const takeStart = () => {
    const s = scene.data!,
      from = picks.place!.map((v, i) => v - (s.origin as number[])[i]);
    const [x, y] = [0, 1].map(
      (c) => Math.round(s.rotation.reduce((sum, row, i) => sum + row[c] * from[i], 0) * 1000) / 1000,
    );
    job.edit(
      [
        { path: `operations/${o.number}/params/start_x_mm`, value: x, was: params.start_x_mm },
        { path: `operations/${o.number}/params/start_y_mm`, value: y, was: params.start_y_mm },
      ],
      "start",
    );
  };
  return (
    <fieldset>
      <legend>Geometry</legend>
      {targets.map((t, k) => (
        <Group key={k} justify="space-between" mb={4}>
          <span>{words(t, job.doc.sketches)}</span>
          <Button
            size="compact-xs"
            variant="default"
            aria-label={`Take out ${words(t, job.doc.sketches)}`}
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
          △ Nothing yet. Pick {pickable(takes)} in the viewport, then take them.
        </Text>
      )}
      <Group gap={6} mt={4}>
        <Button size="compact-sm" variant={picked ? "filled" : "default"} disabled={!picked} onClick={takePicked}>
          {picked ? `Take what is picked (${picked})` : "Take what is picked"}
        </Button>
        {takes.includes("outline") && (
          <Button
            size="compact-sm"
            variant="default"
            disabled={targets.some((t) => t.kind === "outline")}
            onClick={() => put([...targets, { kind: "outline" }], "outline")}
          >
            Outline
          </Button>
        )}
        {params.strategy === "edge chamfer" && (
          <Button size="compact-sm" variant="default" onClick={takeSharp}>
            {picks.faces.length ? `Sharp edges of ${picks.faces.length} picked` : "All sharp edges"}
          </Button>
        )}
      </Group>
      {job.doc.sketches.length > 0 && takes.includes("sketch") && (
        <Select
          size="xs"
          mt={6}
          aria-label="Sketch to follow"
          placeholder="Add a sketch"
          value={null}
          data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
          onChange={(v) => v && put([...targets, { kind: "sketch", sketch: v, items: [] }], "sketch")}
        />
      )}
      {takes.includes("sketch on faces") &&
        (job.doc.sketches.length > 0 ? (
          <Select
            size="xs"
            mt={6}
            aria-label="Sketch to lay on faces"
            placeholder={
              picks.faces.length ? `Lay a sketch on the ${picks.faces.length} picked` : "Lay a sketch on the part"
            }
            value={null}
            data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
            onChange={(v) => v && void lay(v)}
          />
        ) : (
          <Text className="faint" mt={6}>
            A curve drawn under Part, Sketches can be laid on faces.
          </Text>
        ))}
      {job.doc.sketches.length > 0 && takes.includes("sketch") && <FenceFields operation={o} />}
      {(["top", "bottom"] as const)
        .filter((end) => params[`${end}_from`] === "a pick")
        .map((end) => (
          <Group key={end} gap={6} mt={6}>
            <Button
              size="compact-xs"
              variant="default"
              disabled={picks.faces.length !== 1}
              onClick={() => takeHeight(end)}
            >
              {end === "top" ? "Top" : "Bottom"} at the picked face
            </Button>
            <Text className={params[`${end}_pick`] ? "faint" : "warn"}>
              {params[`${end}_pick`] ? "✓ a face is picked" : "△ pick one face in the part"}
            </Text>
          </Group>
        ))}
      {params.start === "near a place" && (
        <Button mt={6} size="compact-xs" variant="default" disabled={!picks.place || !scene.data} onClick={takeStart}>
          Start near the place clicked last
        </Button>
      )}
    </fieldset>
  );
}
