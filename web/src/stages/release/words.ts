/** The words of a program's line by what they are, and where tools are changed. */

export type Word = { text: string; look: "" | "remark" | "number" | "motion" | "act" | "place" };

const SPLIT = /\([^)]*\)?|;.*|[A-Za-z]\s*[-+]?[\d.]+|\s+|./g;

/** Remarks, line numbers, motion words, places, and the rest (feeds, speeds, tools, switches). */
export function wordsOf(line: string): Word[] {
  return (line.match(SPLIT) ?? []).map((text) => ({ text, look: lookOf(text) }));
}

function lookOf(text: string): Word["look"] {
  if (/^[(;]/.test(text)) return "remark";
  switch (text[0].toUpperCase()) {
    case "N":
    case "O":
      return "number";
    case "G":
      return "motion";
    case "X":
    case "Y":
    case "Z":
    case "I":
    case "J":
    case "K":
    case "R":
    case "A":
    case "B":
    case "C":
      return "place";
    case "M":
    case "T":
    case "S":
    case "F":
    case "H":
    case "D":
      return "act";
    default:
      return "";
  }
}

/** Lines on which a tool is changed, with its number and what the list at the top says of it. */
export function toolChanges(lines: string[]): { line: number; words: string }[] {
  const plain = lines.map((l) => l.replace(/\([^)]*\)/g, ""));
  const change = (l: string) => /M0?6\b/.test(l);
  const named = new Map<string, string>();
  for (const l of lines) {
    const found = /\((?:TOOL |T|tool )(\d+) (.*)\)/.exec(l);
    if (found && !named.has(found[1])) named.set(found[1], found[2]);
  }
  let waiting = "";
  return plain.flatMap((l, line) => {
    waiting = /T(\d+)/.exec(l)?.[1] ?? waiting;
    return change(l) ? [{ line, words: `T${waiting} ${named.get(waiting) ?? ""}`.trim() }] : [];
  });
}
