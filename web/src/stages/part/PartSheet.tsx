import { Button, Group, Menu, Text } from "@mantine/core";
import { api, take } from "../../api/client";
import { NumberField } from "../../forms/NumberField";
import { PickFile } from "../../forms/PickFile";
import { TextField } from "../../forms/SchemaForm";
import { usePicks } from "../../job/picking";
import { usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { Measures } from "./Kept";
import { Picked } from "./Picked";
import { f } from "./references";

const MODELS = ".step,.stp,.iges,.igs,.brep,.brp,.stl,.3mf,.obj";

/** The model: bring it in, see what it is, mend its scale; what is picked, measured and kept. */
export function PartSheet({ onFile }: { onFile: (file: File) => void }) {
  const job = useJob();
  const picks = usePicks();
  const part = usePart();
  const s = part.data?.summary;
  const rescale = async (scale: number | null) => {
    try {
      await take(
        api.PUT("/api/jobs/{job_id}/part/scale", {
          params: { path: { job_id: job.id }, query: { scale: scale ?? 1 } },
        }),
      );
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
        <TextField
          label="Name"
          value={job.doc.name}
          onCommit={(v) => job.edit([{ path: "name", value: v, was: job.doc.name }], "job name")}
        />
      </fieldset>
      {(picks.faces.length > 0 || picks.edges.length > 0) && part.data && <Picked />}
      <Measures />
      <fieldset>
        <legend>Model</legend>
        <Group gap={8} mb={8}>
          <PickFile accept={MODELS} size="xs" variant={job.doc.part ? "default" : "filled"} onFile={onFile}>
            {job.doc.part ? "Replace the model" : "Choose a model file"}
          </PickFile>
          {job.doc.part && (
            <Menu>
              <Menu.Target>
                <Button size="xs" variant="default">
                  Save as
                </Button>
              </Menu.Target>
              <Menu.Dropdown>
                {["step", "stl", "3mf", "glb"].map((form) => (
                  <Menu.Item key={form} component="a" href={`/api/jobs/${job.id}/part/export?form=${form}`}>
                    {form.toUpperCase()}
                  </Menu.Item>
                ))}
              </Menu.Dropdown>
            </Menu>
          )}
        </Group>
        {part.error && <Text className="fault">{part.error.message}</Text>}
        {s && (
          <>
            <dl className="facts">
              <dt>File</dt>
              <dd>{job.doc.part?.file}</dd>
              <dt>Size</dt>
              <dd data-testid="size">{s.size_mm.map((v: number) => f(v)).join(" × ")} mm</dd>
              <dt>Volume</dt>
              <dd>{f(s.volume_mm3 / 1000)} cm³</dd>
              <dt>Area</dt>
              <dd>{f(s.area_mm2 / 100)} cm²</dd>
              <dt>Bodies, faces</dt>
              <dd>
                {s.bodies.length}, {s.faces}
              </dd>
              <dt>Exact</dt>
              <dd>{s.exact ? "yes" : "no, triangles"}</dd>
            </dl>
            {s.warnings.map((w: string) => (
              <Text key={w} className="warn" mb={6} role="note">
                ⚠ {w}
              </Text>
            ))}
            <NumberField
              label="Scale"
              value={s.scale}
              range={{ above: 0, max: 1e6 }}
              hint="25.4 for a model saved in inches"
              onCommit={rescale}
            />
          </>
        )}
      </fieldset>
    </>
  );
}
