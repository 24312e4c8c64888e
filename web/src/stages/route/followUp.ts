/** The row that clears with a smaller tool what a roughing row leaves. */
import type { ModelSchema } from "../../forms/SchemaForm";
import type { Fields, JobDocument, Operation, Tool } from "../../job/document";
import type { Edit } from "../../job/useJob";
import { freshParams } from "./useAddOperation";

type Kinds = Record<string, ModelSchema>;

/** The largest tool of the job that comes where a row's does not, and suits the strategy that takes what it leaves: a
 * smaller one, or no larger with the stick-out that is asked for; none where nothing is left to one. */
export function followingTool(doc: JobDocument, o: Operation, kinds: Kinds, stickOut = 0): Tool | undefined {
  const next = kinds[kinds[o.params.strategy]?.left_to ?? ""];
  const own = doc.tools.find((t) => t.number === o.tool)?.cutter.diameter_mm ?? 0;
  const comes = (t: Tool) =>
    stickOut ? t.stick_out_mm >= stickOut && t.cutter.diameter_mm <= own : t.cutter.diameter_mm < own;
  // The first cutters that a strategy names are those that suit it best.
  return doc.tools
    .filter((t) => next?.cutters?.slice(0, 2).includes(t.cutter.kind) && comes(t))
    .sort((a, b) => b.cutter.diameter_mm - a.cutter.diameter_mm)[0];
}

/** The changes that put that row behind the one it follows, and its number: what both strategies have is kept, but for
 * lengths that go with the tool. */
export function followUp(doc: JobDocument, o: Operation, tool: Tool, kinds: Kinds): { edits: Edit[]; number: number } {
  const taken = doc.operations.map((x) => x.number);
  let number = o.number + 5;
  while (taken.includes(number)) number += 1;
  const strategy = kinds[o.params.strategy].left_to!,
    schema = kinds[strategy],
    fresh = freshParams(strategy, schema, tool.cutter.diameter_mm);
  const kept = Object.entries(o.params as Fields).filter(
    ([name, value]) =>
      value != null && name !== "strategy" && name in schema.properties && !(name in (schema.of_diameter ?? {})),
  );
  const params: Fields = { ...fresh, ...Object.fromEntries(kept) };
  if (typeof params.stepdown_mm === "number")
    params.stepdown_mm = Math.min(params.stepdown_mm, tool.cutter.flute_length_mm);
  const value = { number, name: `Rough what row ${o.number} leaves`, setup: o.setup, tool: tool.number, params };
  const index = doc.operations.findIndex((x) => x.number === o.number) + 1;
  return {
    number,
    edits: [
      { op: "add", path: "operations", value },
      { op: "move", path: `operations/${number}`, value: index, check: false } as Edit,
    ],
  };
}
