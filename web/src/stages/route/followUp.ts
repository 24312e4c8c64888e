/** The row that clears with a smaller tool what a roughing row leaves. */
import type { Fields, JobDocument, Operation, Tool } from "../../job/document";
import type { Edit } from "../../job/useJob";

const ROUGHING = ["steady roughing", "rest roughing", "level roughing", "plunge roughing"];
const CUTTERS = ["flat", "bull-nose"];
/** Of the tool's diameter: the next tool's stepdown. */
const DEEP_SHARE = 1;

/** The largest tool of the job that is smaller than a row's and roughs; none where the row does not rough. */
export function followingTool(doc: JobDocument, o: Operation): Tool | undefined {
  if (!ROUGHING.includes(o.params.strategy)) return undefined;
  const own = doc.tools.find((t) => t.number === o.tool)?.cutter.diameter_mm ?? 0;
  return doc.tools
    .filter((t) => CUTTERS.includes(t.cutter.kind) && t.cutter.diameter_mm < own)
    .sort((a, b) => b.cutter.diameter_mm - a.cutter.diameter_mm)[0];
}

/** The changes that put that row behind the one it follows; and its number. */
export function followUp(doc: JobDocument, o: Operation, tool: Tool): { edits: Edit[]; number: number } {
  const taken = doc.operations.map((x) => x.number);
  let number = o.number + 5;
  while (taken.includes(number)) number += 1;
  const was = o.params as Fields,
    flutes = tool.cutter.flute_length_mm;
  const kept = Object.fromEntries(
    ["allowance_mm", "floor_allowance_mm", "tolerance_mm", "around", "engagement_deg", "bottom_mm"]
      .filter((name) => was[name] != null)
      .map((name) => [name, was[name]]),
  );
  const value = {
    number,
    name: `Rough what row ${o.number} leaves`,
    setup: o.setup,
    tool: tool.number,
    params: {
      strategy: "rest roughing",
      stepdown_mm: Math.min(Math.round(DEEP_SHARE * tool.cutter.diameter_mm * 100) / 100, flutes),
      ...kept,
    },
  };
  const index = doc.operations.findIndex((x) => x.number === o.number) + 1;
  return {
    number,
    edits: [
      { op: "add", path: "operations", value },
      { op: "move", path: `operations/${number}`, value: index, check: false } as Edit,
    ],
  };
}
