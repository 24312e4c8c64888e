import { Button, Group, Select } from "@mantine/core";
import { memo } from "react";
import { NumberField } from "../../forms/NumberField";
import { onlyFields, SchemaForm, useModelSchema } from "../../forms/SchemaForm";
import type { HolderSection, Tool } from "../../job/document";
import { useActs } from "../../job/useJob";
import { StickOut } from "./StickOut";
import { usePutTool, useShopTables } from "./toolFields";

const SHANK = ["stick_out_mm", "shank_diameter_mm", "neck_diameter_mm", "neck_length_mm", "length_mm"];

/** What holds the cutter: shank, neck, stick-out, holder. */
export const ShankForm = memo(function ShankForm({
  tool,
  onDraft,
}: {
  tool: Tool;
  onDraft: (field: string, value: number) => void;
}) {
  const { edit } = useActs();
  const put = usePutTool(tool);
  const schema = useModelSchema("Tool");
  const tables = useShopTables();
  const at = `tools/${tool.number}`;
  const section = (k: number, change: Partial<HolderSection>) =>
    put(
      "holder",
      tool.holder.map((h, i) => (i === k ? { ...h, ...change } : h)),
    );
  const holder = (name: string | null) => {
    const h = tables.holders.find((x) => x.name === name);
    if (h)
      edit(
        [
          { path: `${at}/holder`, value: h.sections, was: tool.holder },
          { path: `${at}/holder_name`, value: h.name, was: tool.holder_name },
        ],
        "holder",
      );
  };
  return (
    <fieldset>
      <legend>Shank and holder</legend>
      <SchemaForm
        schema={onlyFields(schema, SHANK)}
        folded={["neck_diameter_mm", "neck_length_mm", "length_mm"]}
        value={tool}
        onDraft={onDraft}
        onChange={(field, v) => put(field, v)}
      />
      <StickOut tool={tool} onTake={(v) => put("stick_out_mm", v)} />
      <Select
        size="xs"
        mt={6}
        label="Holder"
        placeholder="own sections"
        searchable
        value={tables.holders.some((h) => h.name === tool.holder_name) ? tool.holder_name : null}
        data={tables.holders.map((h) => h.name)}
        onChange={holder}
        description={tables.holders.find((h) => h.name === tool.holder_name)?.source}
      />
      <details>
        <summary>Sections</summary>
        {tool.holder.map((h, k) => (
          <Group key={k} gap={6} wrap="nowrap" align="end" mt={6}>
            <NumberField
              label="Lower ⌀"
              unit="mm"
              value={h.lower_diameter_mm}
              range={{ above: 0, max: 1000 }}
              onCommit={(v) => section(k, { lower_diameter_mm: v! })}
            />
            <NumberField
              label="Upper ⌀"
              unit="mm"
              value={h.upper_diameter_mm}
              range={{ above: 0, max: 1000 }}
              onCommit={(v) => section(k, { upper_diameter_mm: v! })}
            />
            <NumberField
              label="Height"
              unit="mm"
              value={h.height_mm}
              range={{ above: 0, max: 2000 }}
              onCommit={(v) => section(k, { height_mm: v! })}
            />
            <Button
              size="compact-xs"
              variant="default"
              aria-label={`Remove holder section ${k + 1}`}
              onClick={() =>
                put(
                  "holder",
                  tool.holder.filter((_, i) => i !== k),
                )
              }
            >
              ×
            </Button>
          </Group>
        ))}
        <Button
          size="compact-xs"
          variant="default"
          mt={8}
          onClick={() =>
            put("holder", [...tool.holder, { lower_diameter_mm: 30, upper_diameter_mm: 40, height_mm: 25 }])
          }
        >
          Add a holder section
        </Button>
      </details>
    </fieldset>
  );
});
