import { useCallback, useMemo } from "react";
import type { Block } from "../api/client";
import type { Operation } from "../job/document";
import { useJob, useStanding } from "../job/useJob";
import { useView } from "../job/view";
import { leftColour } from "../theme";
import { StockBricks } from "./StockBricks";

/** The row whose stock is shown: the selected one, or the one before it; 0 for the first stock. None where it is not
 * there yet. */
export function useStockRow(): { row: number; ready: boolean } | null {
  const { doc } = useJob();
  const { status } = useStanding();
  const view = useView();
  if (view.stage !== "route" || !view.stock || view.rows.length !== 1) return null;
  const own = doc.operations.filter((o) => o.setup === view.setup),
    at = own.findIndex((o) => o.number === view.rows[0]);
  if (at < 0) return null;
  const before = view.stock === "before" ? own.slice(0, at) : own.slice(0, at + 1);
  const last: Operation | undefined = before.filter((o) => o.enabled).pop();
  const state = status?.operations.find((s) => s.number === last?.number)?.state;
  return { row: last?.number ?? 0, ready: !last || state === "ready" };
}

/** The stock before or after the selected row, coloured by what stands over the part where that is asked for. */
export function RowStock({
  row,
  full,
  onBusy,
  onMeta,
}: {
  row: number;
  full: number;
  onBusy: (busy: boolean) => void;
  onMeta: (meta: Block["meta"]) => void;
}) {
  const { id, setNote, version } = useJob();
  const { status } = useStanding();
  const { setup, thick } = useView();
  const paint = useCallback((mm: number) => leftColour(mm, full), [full]);
  const key = useMemo(() => status?.operations.map((o) => o.path_key).join() ?? "", [status]);
  return (
    <StockBricks
      url={`/api/jobs/${id}/setups/${setup}/stock-after`}
      by="row"
      proofKey={`${setup} ${key} ${row ? "" : version}`}
      motion={row}
      deviation={thick}
      paint={paint}
      onBusy={onBusy}
      onError={setNote}
      onMeta={onMeta}
    />
  );
}
