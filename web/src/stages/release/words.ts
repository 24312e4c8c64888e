/** The words of a program's line by what they are, and where another tool begins. */
import type { Block } from "../../api/client";

export type Word = { text: string; look: "" | "remark" | "number" | "motion" | "act" | "place" };

const SPLIT = /\([^)]*\)?|;.*|[A-Za-z]\s*[-+]?[\d.]+|\s+|./g;

/** Remarks, line numbers, motion words, places, and the rest (feeds, speeds, tools, switches). */
export function wordsOf(line: string): Word[] {
  return (line.match(SPLIT) ?? []).map((text) => ({ text, look: lookOf(text) }));
}

const LOOKS: [string, Word["look"]][] = [
  ["(;", "remark"],
  ["NO", "number"],
  ["G", "motion"],
  ["XYZIJKRABC", "place"],
  ["MTSFHD", "act"],
];

const lookOf = (text: string): Word["look"] =>
  LOOKS.find(([letters]) => letters.includes(text[0].toUpperCase()))?.[1] ?? "";

/** Where in a program another tool makes its first motion: its line, and the tool's number. */
export function toolStarts(c: Block, program: number): { line: number; tool: number }[] {
  const found: { line: number; tool: number }[] = [];
  for (let i = 0; i < c.line.length; i++)
    if (c.program[i] === program && found.at(-1)?.tool !== c.tool[i]) found.push({ line: c.line[i], tool: c.tool[i] });
  return found;
}
