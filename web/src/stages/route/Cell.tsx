import { CellInput } from "../../forms/CellInput";
import { useJob } from "../../job/useJob";

/** A cell of the route sheet that is edited in place. */
export function Cell({
  value,
  path,
  label,
  unit,
}: {
  value: number | null | undefined;
  path: string;
  label: string;
  unit: string;
}) {
  const job = useJob();
  return (
    <CellInput
      value={value ?? null}
      label={label}
      unit={unit}
      onCommit={(v) => job.edit([{ path, value: v, was: value ?? null }], label)}
      onWrong={job.setNote}
    />
  );
}
