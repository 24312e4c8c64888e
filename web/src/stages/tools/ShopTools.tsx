import { Button, Group, Select, TextInput } from "@mantine/core";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { withFile } from "../../forms/PickFile";
import { useKinds } from "../../forms/SchemaForm";
import { type Tool, toolLabel } from "../../job/document";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { Files } from "./JobTools";

export function ShopTools() {
  const job = useJob();
  const view = useView();
  const client = useQueryClient();
  const kinds = Object.keys(useKinds("Tool", "cutter"));
  const [words, setWords] = useState("");
  const [kind, setKind] = useState<string | null>(null);
  const tools = useQuery({
    queryKey: ["shop", words, kind],
    placeholderData: keepPreviousData,
    queryFn: () => take(api.GET("/api/library/tools", { params: { query: { words, kind: kind ?? "" } } })),
  });
  const get = async (number: number) => {
    try {
      const state = await take(
        api.POST("/api/jobs/{job_id}/tools/take", {
          params: { path: { job_id: job.id } },
          body: { numbers: [number] },
        }),
      );
      job.reload();
      const list = (state.document as { tools: Tool[] }).tools;
      view.set({ tool: list[list.length - 1].number });
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  const bring = async (file: File) => {
    try {
      const r = await take(api.POST("/api/library/tools/import", { ...withFile(file) }));
      job.setNote(`${r.tools} tools were read.`, true);
      client.invalidateQueries({ queryKey: ["shop"] });
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  return (
    <div className="scroll">
      <Group gap={8} px={8} pt={5}>
        <TextInput
          size="xs"
          w={170}
          placeholder="Find: words, number"
          aria-label="Find tools"
          value={words}
          onChange={(e) => setWords(e.currentTarget.value)}
        />
        <Select
          size="xs"
          w={150}
          placeholder="every kind"
          aria-label="Kind of tool"
          clearable
          value={kind}
          data={kinds}
          onChange={setKind}
        />
      </Group>
      <Files base="/api/library/tools" onBring={bring} words={`${tools.data?.length ?? 0} tools`} />
      <table className="dense" aria-label="Shop library">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>Tool</th>
            <th>Kind</th>
            <th className="n">⌀ mm</th>
            <th className="n">Stick-out</th>
            <th>Holder</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {(tools.data as unknown as Tool[] | undefined)?.map((t) => (
            <tr key={t.number}>
              <td className="n">{t.number}</td>
              <td>{toolLabel(t)}</td>
              <td>{t.cutter.kind}</td>
              <td className="n">{t.cutter.diameter_mm}</td>
              <td className="n">{t.stick_out_mm}</td>
              <td>{t.holder_name || "–"}</td>
              <td>
                <Button
                  size="compact-xs"
                  variant="default"
                  aria-label={`Take ${t.number} into the job`}
                  onClick={() => get(t.number)}
                >
                  {job.doc.tools.some((x) => x.number === t.number) ? "Take another" : "Take"}
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
