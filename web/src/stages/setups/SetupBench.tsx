import type { Setup } from "../../job/document";
import { useScene } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** All setups as rows: how each lies, its stock, what holds it, what is to be looked at. */
export function SetupBench() {
  const job = useJob();
  const view = useView();
  return (
    <div className="scroll">
      <table className="dense" aria-label="Setups">
        <thead>
          <tr>
            <th>Setup</th>
            <th>Up</th>
            <th>Stock, mm</th>
            <th>Held by</th>
            <th className="n">Parts</th>
            <th>Offset</th>
            <th>Machine</th>
            <th>To look at</th>
          </tr>
        </thead>
        <tbody>
          {job.doc.setups.map((s) => (
            <SetupRow key={s.id} setup={s} chosen={s.id === view.setup} onChoose={() => view.set({ setup: s.id })} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function SetupRow({ setup: s, chosen, onChoose }: { setup: Setup; chosen: boolean; onChoose: () => void }) {
  const scene = useScene(s.id);
  const x = scene.data;
  return (
    <tr aria-selected={chosen} tabIndex={0} onClick={onChoose} onKeyDown={(e) => e.key === "Enter" && onChoose()}>
      <td>{s.name || s.id}</td>
      <td>{x?.came_from}</td>
      <td>
        {x &&
          `${s.stock.kind === "box" ? "block" : s.stock.kind} ${x.stock_high.map((h, i) => (h - x.stock_low[i]).toFixed(1)).join(" × ")}`}
      </td>
      <td>{s.fixtures.map((f) => f.name || f.kind).join(", ") || "–"}</td>
      <td className="n">{x?.copies.length ?? 1}</td>
      <td>{s.work_offset < 100 ? `G${s.work_offset}` : `extended ${s.work_offset - 100}`}</td>
      <td>{s.machine || "–"}</td>
      <td className={x?.findings.length || scene.error ? "warn" : ""}>
        {scene.error ? scene.error.message : x?.findings.map((n) => n.kind).join(", ") || "✓"}
      </td>
    </tr>
  );
}
