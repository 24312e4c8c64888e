import { Select } from "@mantine/core";
import { memo } from "react";
import { freshOf, SchemaForm, useKinds } from "../../forms/SchemaForm";
import type { AnyOf, Cutter, Fields, Tool } from "../../job/document";
import { Contour } from "./Contour";
import { seedFor } from "./fresh";
import { usePutTool, useShopTables } from "./toolFields";

/** What cuts: its kind and its measures. */
export const CutterForm = memo(function CutterForm({
  tool,
  onDraft,
}: {
  tool: Tool;
  onDraft: (change: Fields) => void;
}) {
  const put = usePutTool(tool);
  const kinds = useKinds("Tool", "cutter");
  const tables = useShopTables();
  const c = tool.cutter;
  const cut = (change: Fields) => put("cutter", { ...tool.cutter, ...change });
  const kind = (k: string | null) =>
    k && k !== tool.cutter.kind && put("cutter", freshOf(k, kinds[k], seedFor(tool.cutter)));
  const threads = (
    <Select
      key="thread"
      size="xs"
      label="Thread"
      placeholder="by its pitch"
      clearable
      searchable
      value={(c as AnyOf<Cutter>).thread || null}
      data={tables.threads.map((t) => t.name)}
      onChange={(name) => {
        const t = tables.threads.find((x) => x.name === name);
        return cut(
          t
            ? { thread: t.name, pitch_mm: t.pitch_mm, ...(c.kind === "tap" ? { diameter_mm: t.major_mm } : {}) }
            : { thread: "" },
        );
      }}
    />
  );
  return (
    <fieldset>
      <legend>T{tool.number} · cutter</legend>
      <Select
        size="xs"
        mb={6}
        label="Kind"
        allowDeselect={false}
        searchable
        data={Object.keys(kinds)}
        value={c.kind}
        onChange={kind}
      />
      <SchemaForm
        schema={kinds[c.kind]}
        value={c}
        skip={["kind", "places"]}
        special={"thread" in c ? { thread: threads } : {}}
        onDraft={(field, v) => onDraft({ [field]: v })}
        onChange={(field, v) => cut({ [field]: v })}
      />
      {c.kind === "own contour" && (
        <Contour
          tool={tool}
          onTake={(places) =>
            put("cutter", {
              ...c,
              places,
              diameter_mm: Math.round(2e6 * Math.max(...places.map((p) => p[0]))) / 1e6,
              flute_length_mm: Math.max(...places.map((p) => p[1])),
            })
          }
        />
      )}
    </fieldset>
  );
});
