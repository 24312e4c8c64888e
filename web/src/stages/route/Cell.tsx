import { useEffect, useState } from "react";
import { readNumber } from "../../forms/NumberField";
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
  const shown = value == null ? "" : String(value);
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const commit = async () => {
    if (text === shown) return;
    try {
      if (await job.edit([{ path, value: await readNumber(text, unit), was: value ?? null }], label)) setText(shown);
    } catch (e) {
      job.setNote((e as Error).message);
      setText(shown);
    }
  };
  return (
    <input
      className="cell"
      aria-label={label}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={commit}
      onClick={(e) => e.stopPropagation()}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") setText(shown);
      }}
    />
  );
}
