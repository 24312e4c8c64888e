/** A new row of the route, with what its strategy begins with and the tool that suits it best. */
import { type ModelSchema, useKinds } from "../../forms/SchemaForm";
import type { Fields, Tool } from "../../job/document";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** The tool of a job whose cutter suits a strategy best. */
function toolFor(tools: Tool[], schema: ModelSchema | undefined): Tool {
  for (const kind of schema?.cutters ?? []) {
    const found = tools.find((t) => t.cutter.kind === kind);
    if (found) return found;
  }
  return tools[0];
}

/** What a new row begins with, as its strategy declares it. */
export function freshParams(strategy: string, schema: ModelSchema, diameter: number): Fields {
  const lengths = Object.entries(schema.of_diameter ?? {}).map(([name, share]) => [
    name,
    Math.max(Math.round(share * diameter * 100) / 100, 0.05),
  ]);
  return { strategy, ...schema.fresh, ...Object.fromEntries(lengths) };
}

export function useAddOperation() {
  const job = useJob();
  const view = useView();
  const kinds = useKinds("Operation", "params");
  return async (strategy: string) => {
    const last = Math.max(0, ...job.doc.operations.map((o) => o.number));
    const number = Math.floor(last / 10) * 10 + 10;
    const tool = toolFor(job.doc.tools, kinds[strategy]);
    const value = {
      number,
      name: "",
      setup: view.setup,
      tool: tool.number,
      params: freshParams(strategy, kinds[strategy], tool.cutter.diameter_mm),
    };
    if (!(await job.edit([{ op: "add", path: "operations", value }], `add ${strategy}`)))
      view.set({ stage: "route", rows: [number] });
  };
}
