import { Button, FileButton, Group, Text, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api, take } from "../api/client";
import { NumberField } from "../forms/NumberField";
import { usePart } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";

const f = (v: number, d = 2) => v.toLocaleString("en", { maximumFractionDigits: d }).replace(/,/g, " ");

/** The model: bring it in, see what it is, mend its scale, look at picked faces. */
export function PartSheet({ onFile }: { onFile: (file: File) => void }) {
  const job = useJob();
  const view = useView();
  const part = usePart();
  const [name, setName] = useState(job.doc.name);
  useEffect(() => setName(job.doc.name), [job.doc.name]);
  const s = part.data?.summary;
  const rescale = async (scale: number | null) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/part/scale", { params: { path: { job_id: job.id }, query: { scale: scale ?? 1 } } }));
      job.reload();
      return "";
    } catch (e) {
      return (e as Error).message;
    }
  };
  return (
    <>
      <fieldset>
        <legend>Job</legend>
        <TextInput size="xs" label="Name" value={name} onChange={(e) => setName(e.currentTarget.value)} onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          onBlur={() => name !== job.doc.name && job.edit([{ path: "name", value: name, was: job.doc.name }], "job name")} />
      </fieldset>
      <fieldset>
        <legend>Model</legend>
        <Group gap={8} mb={8}>
          <FileButton onChange={(file) => file && onFile(file)} accept=".step,.stp,.iges,.igs,.brep,.brp,.stl">
            {(p) => <Button size="xs" variant={job.doc.part ? "default" : "filled"} {...p}>{job.doc.part ? "Replace the model" : "Choose a model file"}</Button>}
          </FileButton>
        </Group>
        {part.error && <Text className="fault">{part.error.message}</Text>}
        {s && (
          <>
            <dl className="facts">
              <dt>File</dt><dd>{job.doc.part?.file}</dd>
              <dt>Size</dt><dd data-testid="size">{s.size_mm.map((v: number) => f(v)).join(" × ")} mm</dd>
              <dt>Volume</dt><dd>{f(s.volume_mm3 / 1000)} cm³</dd>
              <dt>Area</dt><dd>{f(s.area_mm2 / 100)} cm²</dd>
              <dt>Faces</dt><dd>{s.faces}</dd>
              <dt>Exact</dt><dd>{s.exact ? "yes" : "no, triangles"}</dd>
            </dl>
            {s.warnings.map((w: string) => <Text key={w} className="warn" mb={6} role="note">⚠ {w}</Text>)}
            <NumberField label="Scale" value={s.scale} range={{ above: 0, max: 1e6 }} hint="25.4 for a model saved in inches" onCommit={rescale} />
          </>
        )}
      </fieldset>
      {view.faces.length > 0 && part.data && (
        <fieldset>
          <legend>Picked faces</legend>
          {view.faces.filter((k) => part.data.faces[k]).map((k) => {
            const face = part.data.faces[k];
            return (
              <Group key={k} justify="space-between" wrap="nowrap" mb={4}>
                <span>{face.kind}{face.radius_mm ? ` R ${f(face.radius_mm, 3)}` : ""} · {f(face.area_mm2)} mm²{face.kind === "plane" ? ` · z ${f(face.centroid[2])}` : ""}</span>
                <Button size="compact-xs" variant="default" aria-label={`Let go of face ${k}`} onClick={() => view.set({ faces: view.faces.filter((x) => x !== k) })}>×</Button>
              </Group>
            );
          })}
          <Text className="faint">{view.faces.length > 1 && `Together ${f(view.faces.reduce((a, k) => a + (part.data.faces[k]?.area_mm2 ?? 0), 0))} mm². `}Shift and click takes more.</Text>
        </fieldset>
      )}
      {job.doc.part && !job.doc.setups.length && <Button size="xs" onClick={() => view.set({ stage: "setups" })}>Next: a setup</Button>}
    </>
  );
}
