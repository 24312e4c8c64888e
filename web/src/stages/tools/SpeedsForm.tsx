import { Switch } from "@mantine/core";
import { memo, useState } from "react";
import { NumberField } from "../../forms/NumberField";
import { onlyFields, SchemaForm, useModelSchema } from "../../forms/SchemaForm";
import type { Tool } from "../../job/document";
import { Proposed } from "./Proposed";
import { usePutTool } from "./toolFields";

const SPEEDS = ["spindle_rpm", "cutting_feed_mm_min", "entry_feed_mm_min", "exit_feed_mm_min"];

/** Speed and feeds, as proposed or from surface speed and chip load. */
export const SpeedsForm = memo(function SpeedsForm({ tool }: { tool: Tool }) {
  const put = usePutTool(tool);
  const schema = useModelSchema("Tool");
  const [speed, setSpeed] = useState<number | null>(null);
  const c = tool.cutter;
  const vc = (Math.PI * c.diameter_mm * tool.spindle_rpm) / 1000,
    fz = tool.cutting_feed_mm_min / (tool.spindle_rpm * c.flutes);
  return (
    <fieldset>
      <legend>Speeds and feeds</legend>
      <Proposed tool={tool} />
      <SchemaForm schema={onlyFields(schema, SPEEDS)} value={tool} onChange={(field, v) => put(field, v)} />
      <div className="two">
        <NumberField
          label="From surface speed"
          unit="m/min"
          value={Math.round((speed ?? vc) * 10) / 10}
          range={{ above: 0 }}
          onCommit={(v) => {
            setSpeed(null);
            return put("spindle_rpm", Math.round((1000 * v!) / (Math.PI * c.diameter_mm)));
          }}
        />
        <NumberField
          label="From chip load"
          unit="mm"
          value={Math.round(fz * 1e4) / 1e4}
          range={{ above: 0 }}
          onCommit={(v) => put("cutting_feed_mm_min", Math.round(tool.spindle_rpm * c.flutes * v!))}
        />
      </div>
      <Switch
        size="xs"
        mt={10}
        label="Coolant"
        checked={tool.coolant}
        onChange={(e) => put("coolant", e.currentTarget.checked)}
      />
    </fieldset>
  );
});
