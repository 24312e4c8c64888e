import { Anchor, Button, Group } from "@mantine/core";
import type { Selector, Vec } from "../../job/document";
import { pick } from "../../job/picking";
import { useMeasurements, usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { f } from "./references";

export function Item({ text, label, onDrop }: { text: string; label: string; onDrop: () => void }) {
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
export function Measures() {
  const job = useJob();
  const part = usePart().data;
  const { measurements, selections } = job.doc;
  const pickAgain = async (items: Selector[]) => {
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
    pick({ faces, edges: [] });
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
          <Anchor component="button" type="button" size="sm" onClick={() => pickAgain(s.items)}>
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
