import { Button, Group } from "@mantine/core";
import { memo, useCallback, useEffect, useState } from "react";
import { api, take } from "../../api/client";
import { onlyFields, SchemaForm, TextField, useModelSchema } from "../../forms/SchemaForm";
import { type Cutter, type Fields, type Tool, toolLabel } from "../../job/document";
import { useActs } from "../../job/useJob";
import { useView } from "../../job/view";
import { CutterForm } from "./CutterForm";
import { Differences } from "./Differences";
import { ShankForm } from "./ShankForm";
import { SpeedsForm } from "./SpeedsForm";
import { ToolDrawing } from "./ToolDrawing";
import { usePutTool } from "./toolFields";

/** A tool of the job, drawn as its numbers are typed. */
export const ToolForm = memo(function ToolForm({ tool }: { tool: Tool }) {
  const acts = useActs();
  const view = useView();
  const put = usePutTool(tool);
  const schema = useModelSchema("Tool");
  const [draft, setDraft] = useState(tool);
  useEffect(() => setDraft(tool), [tool]);
  const cutting = useCallback(
    (change: Fields) => setDraft((d) => ({ ...d, cutter: { ...d.cutter, ...change } as Cutter })),
    [],
  );
  const holding = useCallback((field: string, value: number) => setDraft((d) => ({ ...d, [field]: value })), []);
  const at = `tools/${tool.number}`;
  return (
    <>
      <ToolDrawing tool={draft} />
      <CutterForm tool={tool} onDraft={cutting} />
      <Differences tool={tool} />
      <ShankForm tool={tool} onDraft={holding} />
      <SpeedsForm tool={tool} />
      <details>
        <summary>More</summary>
        <TextField
          label="Name"
          value={tool.name}
          placeholder={toolLabel({ ...tool, name: "" })}
          onCommit={(v) => put("name", v)}
        />
        <SchemaForm
          schema={onlyFields(schema, ["material", "coating", "use", "length_offset", "diameter_offset"])}
          value={tool}
          onChange={(field, v) => put(field, v)}
        />
        <Group gap={6} mt={8}>
          <Button
            size="compact-xs"
            variant="default"
            onClick={async () => {
              try {
                await take(
                  api.POST("/api/jobs/{job_id}/tools/{number}/keep", {
                    params: { path: { job_id: acts.id, number: tool.number } },
                  }),
                );
                acts.setNote(`T${tool.number} is in the shop's library now.`, true);
              } catch (e) {
                acts.setNote((e as Error).message);
              }
            }}
          >
            Keep in the library
          </Button>
          <Button
            size="compact-xs"
            variant="default"
            onClick={() => {
              view.set({ tool: null });
              acts.edit([{ op: "remove", path: at }], "remove tool");
            }}
          >
            Remove this tool
          </Button>
        </Group>
      </details>
    </>
  );
});
