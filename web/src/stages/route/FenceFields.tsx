import { Select } from "@mantine/core";
import type { Fields, Operation } from "../../job/document";
import { useJob } from "../../job/useJob";
import { FENCES } from "./fences";

/** The sketches that fence an operation. */
export function FenceFields({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const params = o.params as Fields;
  return FENCES.map(([name, label, none]) => {
    const was = (params[name] as string | undefined) ?? "";
    return (
      <Select
        key={name}
        size="xs"
        mt={6}
        label={label}
        clearable
        placeholder={none}
        value={was || null}
        data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
        onChange={(v) =>
          job.edit([{ path: `operations/${o.number}/params/${name}`, value: v ?? "", was }], label.toLowerCase())
        }
      />
    );
  });
}
