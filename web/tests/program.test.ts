import { expect, it } from "vitest";
import { toolChanges, wordsOf } from "../src/stages/release/words";

const looks = (line: string) =>
  wordsOf(line)
    .filter((w) => w.text.trim())
    .map((w) => `${w.text}:${w.look}`);

it("tells the words of a line apart, and loses none of its letters", () => {
  expect(looks("N10 G1 X-1.5 F200 (rough)")).toEqual([
    "N10:number",
    "G1:motion",
    "X-1.5:place",
    "F200:act",
    "(rough):remark",
  ]);
  expect(looks("G0Z5M3 ; up")).toEqual(["G0:motion", "Z5:place", "M3:act", "; up:remark"]);
  for (const line of ["%", "N5 (TOOL 3 DIA 6.000 X)", "G2X1Y2R-3.F1e2", "(open", ""])
    expect(
      wordsOf(line)
        .map((w) => w.text)
        .join(""),
    ).toBe(line);
});

it("finds tool changes with what the list at the top says, whether the number stands before or on the line", () => {
  const lines = ["(T1 DIA 12 Rougher)", "(T7 DIA 6 Ball)", "T1 M6", "T7", "G0 X1", "(not M6 here)", "M6", "M60"];
  expect(toolChanges(lines)).toEqual([
    { line: 2, words: "T1 DIA 12 Rougher" },
    { line: 6, words: "T7 DIA 6 Ball" },
  ]);
});
