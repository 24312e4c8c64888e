import type { Operation } from "./document";
import { useJob } from "./useJob";
import { useView } from "./view";

/** The row whose way through the cell is looked at: the one that is chosen, or the first of the setup. */
export function useArmRow(): Operation | undefined {
  const { doc } = useJob();
  const view = useView();
  const own = doc.operations.filter((o) => o.setup === view.setup && o.enabled);
  return own.find((o) => view.rows.includes(o.number)) ?? own[0];
}
