import { Select } from "@mantine/core";
import { SchemaForm, useKinds } from "../../forms/SchemaForm";
import type { Operation } from "../../job/document";
import { useJob } from "../../job/useJob";

/** The path again at other places. */
export function CopiesForm({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const kinds = useKinds("Operation", "copies");
  const at = `operations/${o.number}/copies`;
  return (
    <details open={!!o.copies}>
      <summary>Copies</summary>
      <Select
        size="xs"
        label="Copies of this path"
        allowDeselect={false}
        value={o.copies?.kind ?? "none"}
        data={["none", ...Object.keys(kinds)]}
        onChange={(v) => job.edit([{ path: at, value: v === "none" ? null : { kind: v }, was: o.copies }], "copies")}
      />
      {o.copies && (
        <SchemaForm
          schema={kinds[o.copies.kind]}
          value={o.copies}
          onChange={(f, value, was) => job.edit([{ path: `${at}/${f}`, value, was }], "copies")}
        />
      )}
    </details>
  );
}
