import { expect, it } from "vitest";
import { toolStarts, wordsOf } from "../src/stages/release/words";

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

it("finds where another tool begins, in each program by itself, and where one comes back", () => {
  const columns = { meta: {}, program: [0, 0, 0, 0, 1], line: [9, 10, 20, 31, 4], tool: [1, 1, 7, 1, 1] };
  expect(toolStarts(columns, 0)).toEqual([
    { line: 9, tool: 1 },
    { line: 20, tool: 7 },
    { line: 31, tool: 1 },
  ]);
  expect(toolStarts(columns, 1)).toEqual([{ line: 4, tool: 1 }]);
});
