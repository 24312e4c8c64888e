import { useCallback } from "react";
import { useMoment } from "../job/moment";
import { useColumns, useProofKey } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { deviationColour } from "../theme";
import { StockBricks } from "./StockBricks";
import { ToolBody } from "./ToolBody";

/** Stock and tool at the moment of the proof. */
export function Cutting({ deviation, onBusy }: { deviation: boolean; onBusy: (busy: boolean) => void }) {
  const { id, doc, setNote } = useJob();
  const { setup } = useView();
  const columns = useColumns(setup).data,
    proofKey = useProofKey(setup),
    moment = useMoment();
  const band = doc.proof.band_mm;
  const paint = useCallback((mm: number) => deviationColour(mm, band), [band]);
  const i = columns && moment ? Math.min(moment, columns.line.length) - 1 : -1;
  const running = columns && i >= 0 ? doc.tools.find((t) => t.number === columns.tool[i]) : undefined;
  return (
    <>
      <StockBricks
        url={`/api/jobs/${id}/setups/${setup}/proof/stock`}
        proofKey={proofKey}
        motion={moment}
        deviation={deviation}
        paint={paint}
        onBusy={onBusy}
        onError={setNote}
      />
      {columns && running && !deviation && (
        <ToolBody
          tool={running}
          tip={[columns.point[3 * i], columns.point[3 * i + 1], columns.point[3 * i + 2]]}
          axis={[columns.axis[3 * i], columns.axis[3 * i + 1], columns.axis[3 * i + 2]]}
        />
      )}
    </>
  );
}
