import type { HolderSection, Tool } from "../../job/document";
import { useTables } from "../../job/queries";
import { useActs } from "../../job/useJob";

export type Threads = { name: string; major_mm: number; pitch_mm: number }[];
export type Holders = { name: string; sections: HolderSection[]; grips: [number, number]; source: string }[];

/** Threads and holders that the shop knows. */
export function useShopTables(): { threads: Threads; holders: Holders } {
  const tables = useTables().data as { threads: Threads; holders: Holders } | undefined;
  return tables ?? { threads: [], holders: [] };
}

/** Changes a field of a tool. */
export function usePutTool(tool: Tool) {
  const { edit } = useActs();
  return (field: string, value: unknown) =>
    edit([{ path: `tools/${tool.number}/${field}`, value, was: tool[field as keyof Tool] }], `tool ${tool.number}`);
}
