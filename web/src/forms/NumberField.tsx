import { TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api, take } from "../api/client";

export type Range = { min?: number; above?: number; max?: number };

const QUANTITY: Record<string, string> = { mm: "length", "mm/min": "feed", deg: "angle", "m/min": "speed" };

/** What is wrong with a number, in words; empty when nothing is. */
export function outOfRange(value: number, range: Range, unit: string): string {
  const u = unit ? ` ${unit}` : "";
  if (range.above !== undefined && value <= range.above) return `Must be above ${range.above}${u}.`;
  if (range.min !== undefined && value < range.min) return `Must be at least ${range.min}${u}.`;
  if (range.max !== undefined && value > range.max) return `Must be at most ${range.max}${u}.`;
  return "";
}

/** Read what a person typed: a plain number here, arithmetic and other units on the server. */
export async function readNumber(text: string, unit: string): Promise<number> {
  const plain = text.trim().replace(",", ".");
  if (/^[-+]?(\d+\.?\d*|\.\d+)$/.test(plain)) return Number(plain);
  return (await take(api.POST("/api/number", { body: { text, quantity: QUANTITY[unit] ?? "none" } }))).value;
}

type Props = {
  label: string;
  value: number | null;
  unit?: string;
  range?: Range;
  hint?: string;
  optional?: boolean;
  placeholder?: string;
  onCommit: (value: number | null) => Promise<string> | void;
  onDraft?: (value: number) => void;
};

/** A number with its unit; takes arithmetic (=3*4) and either unit system (3/8in), and says at once when it is out of range. */
export function NumberField({
  label,
  value,
  unit = "",
  range = {},
  hint,
  optional,
  placeholder,
  onCommit,
  onDraft,
}: Props) {
  const shown = value === null || value === undefined ? "" : String(Math.round(value * 1e6) / 1e6);
  const [text, setText] = useState(shown);
  const [error, setError] = useState("");
  useEffect(() => {
    setText(shown);
    setError("");
  }, [shown]);
  const check = (typed: string) => {
    setText(typed);
    const n = Number(typed.replace(",", "."));
    setError(typed.trim() && Number.isFinite(n) ? outOfRange(n, range, unit) : "");
    if (typed.trim() && Number.isFinite(n) && !outOfRange(n, range, unit)) onDraft?.(n);
  };
  const commit = async () => {
    if (text === shown) return;
    if (!text.trim()) {
      if (optional) return void onCommit(null);
      return setError("Type a number.");
    }
    try {
      const n = await readNumber(text, unit);
      const wrong = outOfRange(n, range, unit);
      if (wrong) return setError(wrong);
      const refused = await onCommit(n);
      if (refused) setError(refused);
    } catch (e) {
      setError((e as Error).message);
    }
  };
  return (
    <TextInput
      size="xs"
      label={label}
      description={hint}
      value={text}
      error={error || undefined}
      placeholder={placeholder}
      inputMode="decimal"
      rightSection={
        unit && (
          <span className="faint" style={{ fontSize: 12, paddingRight: 8, whiteSpace: "nowrap" }}>
            {unit}
          </span>
        )
      }
      rightSectionWidth={unit.length > 3 ? 58 : 38}
      rightSectionPointerEvents="none"
      aria-label={unit ? `${label}, ${unit}` : label}
      onChange={(e) => check(e.currentTarget.value)}
      onBlur={commit}
      onKeyDown={(e) => {
        if (e.key === "Enter") commit();
        if (e.key === "Escape") {
          setText(shown);
          setError("");
        }
      }}
    />
  );
}
