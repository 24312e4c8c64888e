import { Switch } from "@mantine/core";
import { SchemaForm, useModelSchema } from "../../forms/SchemaForm";
import type { Setup } from "../../job/document";
import { useScene } from "../../job/queries";
import type { Put } from "./fields";

export function GridForm({ setup, put }: { setup: Setup; put: Put }) {
  const schema = useModelSchema("Grid");
  const scene = useScene(setup.id).data;
  const pitch = (k: number) => Math.ceil(((scene?.part_high[k] ?? 40) - (scene?.part_low[k] ?? 0) + 12) / 5) * 5;
  return (
    <fieldset>
      <legend>Grid of parts</legend>
      <Switch
        size="xs"
        label="The same part many times"
        checked={!!setup.grid}
        onChange={(e) =>
          put(
            "grid",
            e.currentTarget.checked ? { columns: 2, rows: 2, pitch_x_mm: pitch(0), pitch_y_mm: pitch(1) } : null,
            setup.grid,
            "grid",
          )
        }
      />
      {setup.grid && (
        <div style={{ marginTop: 6 }}>
          <SchemaForm
            schema={schema}
            value={setup.grid}
            onChange={(field, value, was) => put(`grid/${field}`, value, was, "grid")}
          />
        </div>
      )}
    </fieldset>
  );
}
