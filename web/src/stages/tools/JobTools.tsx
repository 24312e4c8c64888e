import { Button, Group, Text } from "@mantine/core";
import { api, take } from "../../api/client";
import { PickFile, withFile } from "../../forms/PickFile";
import { type AnyOf, type Cutter, toolLabel } from "../../job/document";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

export function JobTools() {
  const job = useJob();
  const view = useView();
  const bring = async (file: File) => {
    try {
      await take(
        api.POST("/api/jobs/{job_id}/tools/import", { params: { path: { job_id: job.id } }, ...withFile(file) }),
      );
      job.reload();
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <div className="scroll">
      <Files
        base={`/api/jobs/${job.id}/tools`}
        onBring={bring}
        words={`${job.doc.tools.length} tools; the machine's magazine has room for ${Math.min(...job.doc.machines.map((m) => (m as { magazine_places?: number }).magazine_places ?? 24))}.`}
      />
      <table className="dense" aria-label="Tools of the job">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>Tool</th>
            <th>Kind</th>
            <th className="n">⌀ mm</th>
            <th className="n">Corner</th>
            <th className="n">Cutting length</th>
            <th className="n">Stick-out</th>
            <th className="n">Flutes</th>
            <th>Holder</th>
            <th className="n">rpm</th>
            <th className="n">Feed</th>
            <th className="n">Offsets</th>
            <th>Used by</th>
          </tr>
        </thead>
        <tbody>
          {job.doc.tools.map((t) => (
            <tr
              key={t.number}
              aria-selected={t.number === view.tool}
              tabIndex={0}
              onClick={() => view.set({ tool: t.number })}
              onKeyDown={(e) => e.key === "Enter" && view.set({ tool: t.number })}
            >
              <td className="n">T{t.number}</td>
              <td>{toolLabel(t)}</td>
              <td>{t.cutter.kind}</td>
              <td className="n">{t.cutter.diameter_mm}</td>
              <td className="n">{(t.cutter as AnyOf<Cutter>).corner_radius_mm ?? "–"}</td>
              <td className="n">{t.cutter.flute_length_mm}</td>
              <td className="n">{t.stick_out_mm}</td>
              <td className="n">{t.cutter.flutes}</td>
              <td>{t.holder_name || "–"}</td>
              <td className="n">{t.spindle_rpm}</td>
              <td className="n">{t.cutting_feed_mm_min}</td>
              <td className="n">
                H{t.length_offset ?? t.number} D{t.diameter_offset ?? t.number}
              </td>
              <td>
                {job.doc.operations
                  .filter((o) => o.tool === t.number)
                  .map((o) => o.number)
                  .join(", ") || "–"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

export function Files({ base, onBring, words }: { base: string; onBring: (file: File) => void; words: string }) {
  return (
    <Group gap={8} px={8} py={5}>
      <PickFile accept=".json,.csv" size="compact-sm" variant="default" onFile={onBring}>
        Import a list
      </PickFile>
      {["csv", "json"].map((form) => (
        <Button key={form} size="compact-sm" variant="default" component="a" href={`${base}.${form}`}>
          Save as {form.toUpperCase()}
        </Button>
      ))}
      <Text className="faint">{words}</Text>
    </Group>
  );
}
