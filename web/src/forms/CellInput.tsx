import { useEffect, useState } from "react";
import { readNumber } from "./NumberField";

type Props = {
  value: number | null;
  label: string;
  unit: string;
  placeholder?: string;
  /** Takes what was typed; null where the cell was emptied. Gives why it was refused, or nothing. */
  onCommit: (value: number | null) => Promise<string> | string;
  onWrong: (words: string) => void;
};

/** A cell of a table that is edited in place. */
export function CellInput({ value, label, unit, placeholder, onCommit, onWrong }: Props) {
  const shown = value == null ? "" : String(value);
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const commit = async () => {
    if (text === shown) return;
    try {
      const empty = placeholder !== undefined && !text.trim();
      if (await onCommit(empty ? null : await readNumber(text, unit))) setText(shown);
    } catch (e) {
      onWrong((e as Error).message);
      setText(shown);
    }
  };
  return (
    <input
      className="cell"
      aria-label={label}
      value={text}
      placeholder={placeholder}
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
