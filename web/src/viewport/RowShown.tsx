import { Button, SegmentedControl, Select, Switch } from "@mantine/core";
import { useState } from "react";
import type { Block } from "../api/client";
import { usePath } from "../job/queries";
import { goTo } from "../job/spot";
import { useJob } from "../job/useJob";
import { type LoadName, LOAD_NAMES, useView } from "../job/view";
import { cssColour, leftColour, loadColour } from "../theme";
import { LOADS, type LoadTold, loadWords, spreadOf, topOf } from "./loads";
import { useStockRow } from "./RowStock";

export const FULL_MM = [0.5, 1, 2, 5, 10, 20];
const STEPS = 28,
  WIDTH = 188,
  HEIGHT = 44;

/** What of the selected row is shown: the stock before or after it, and its path by a load; with their scales. */
export function RowShown({
  full,
  onFull,
  meta,
}: {
  full: number;
  onFull: (mm: number) => void;
  meta: Block["meta"] | null;
}) {
  const view = useView();
  const stock = useStockRow();
  return (
    <div className="scale shown" aria-label="What is shown of the row">
      <Select
        size="xs"
        label="Cuts coloured by"
        allowDeselect={false}
        value={view.load || "kind"}
        data={[
          { value: "kind", label: "kind of motion" },
          ...LOAD_NAMES.map((name) => ({ value: name, label: LOADS[name].name })),
        ]}
        onChange={(v) => {
          goTo(null);
          view.set({ load: v === "kind" ? "" : (v as LoadName) });
        }}
      />
      {view.load && <LoadScale number={view.rows[0]} by={view.load} />}
      <span className="label">Stock of the row</span>
      <SegmentedControl
        size="xs"
        fullWidth
        aria-label="Stock of the row"
        value={view.stock || "hidden"}
        data={["hidden", "before", "after"]}
        onChange={(v) => view.set({ stock: v === "hidden" ? "" : (v as "before" | "after") })}
      />
      {view.stock && stock && !stock.ready && <div className="warn">Compute the row to see its stock.</div>}
      {view.stock && stock?.ready && <StockScale row={stock.row} full={full} onFull={onFull} meta={meta} />}
    </div>
  );
}

function StockScale({
  row,
  full,
  onFull,
  meta,
}: {
  row: number;
  full: number;
  onFull: (mm: number) => void;
  meta: Block["meta"] | null;
}) {
  const view = useView();
  const { id, doc } = useJob();
  const cm3 = (mm3: number) => `${(mm3 / 1000).toFixed(mm3 < 1e4 ? 2 : 1)} cm³`;
  const file = (form: string) => `/api/jobs/${id}/setups/${view.setup}/stock-after/file?row=${row}&form=${form}`;
  return (
    <>
      <div>
        {row ? `After row ${row}` : "As it comes"}
        {meta?.volume_mm3 != null && `: ${cm3(meta.volume_mm3)}`}
        {meta?.left_mm3 != null && doc.part && `, ${cm3(meta.left_mm3)} over the part`}
      </div>
      <Switch
        size="xs"
        label="coloured by thickness over the part"
        checked={view.thick}
        onChange={(e) => view.set({ thick: e.currentTarget.checked })}
      />
      {view.thick && (
        <>
          <svg width={WIDTH} height={12} aria-hidden>
            {Array.from({ length: STEPS }, (_, k) => (
              <rect
                key={k}
                x={(k * WIDTH) / STEPS}
                width={WIDTH / STEPS + 0.5}
                height={12}
                fill={cssColour(leftColour((full * (k + 0.5)) / STEPS, full))}
              />
            ))}
          </svg>
          <div className="ends">
            <span>0</span>
            <span>purple: part cut</span>
            <Select
              size="xs"
              w={84}
              aria-label="Thickness at the end of the scale"
              allowDeselect={false}
              value={String(full)}
              data={FULL_MM.map((mm) => ({ value: String(mm), label: `${mm} mm` }))}
              onChange={(v) => onFull(Number(v))}
            />
          </div>
        </>
      )}
      <div className="ends">
        <span>Save as</span>
        {["stl", "3mf"].map((form) => (
          <Button key={form} size="compact-xs" variant="default" component="a" href={file(form)} download>
            {form.toUpperCase()}
          </Button>
        ))}
      </div>
    </>
  );
}

/** The scale of a load with the length of cuts at each step, what is to be held, and the way to where it is more. */
function LoadScale({ number, by }: { number: number; by: LoadName }) {
  const block = usePath(number).data;
  const [next, setNext] = useState(0);
  if (!block) return <div className="warn">Compute the row to see its loads.</div>;
  const { unit, digits } = LOADS[by];
  const told = block.meta.load as LoadTold,
    top = topOf(block, by),
    spread = spreadOf(block, by, top, STEPS),
    most = Math.max(...spread, 1e-9);
  const target = by === "engagement" ? told.target_deg : null;
  return (
    <figure aria-label={`${LOADS[by].name} up to ${top.toFixed(digits)} ${unit}`}>
      <svg width={WIDTH} height={HEIGHT + 12} aria-hidden>
        {Array.from(spread, (length, k) => {
          const high = (HEIGHT * length) / most,
            x = (k * WIDTH) / STEPS;
          return (
            <g key={k}>
              <rect x={x} y={HEIGHT - high} width={WIDTH / STEPS - 1} height={high} fill="#7d848b" />
              <rect
                x={x}
                y={HEIGHT}
                width={WIDTH / STEPS + 0.5}
                height={12}
                fill={cssColour(loadColour((k + 0.5) / STEPS))}
              />
            </g>
          );
        })}
        {target !== null && target <= top && (
          <line
            x1={(target / top) * WIDTH}
            x2={(target / top) * WIDTH}
            y1={0}
            y2={HEIGHT + 12}
            stroke="currentColor"
            strokeDasharray="4 2"
          />
        )}
      </svg>
      <div className="ends">
        <span>0</span>
        <span>bars: length of cuts</span>
        <span>
          {top.toFixed(digits)} {unit}
        </span>
      </div>
      {by === "engagement" && (
        <div>
          {loadWords({ ...told, above: told.above.length })}
          {told.planned ? ", as planned" : ", as the stock's rays tell it"}
          {told.slot_mm > 0.05 && `; ${told.slot_mm.toFixed(1)} mm at full width`}
        </div>
      )}
      {by === "engagement" && told.above.length > 0 && (
        <Button
          size="compact-xs"
          variant="default"
          mt={4}
          onClick={() => {
            const place = told.above[next % told.above.length];
            goTo(place.in_part);
            setNext(next + 1);
          }}
        >
          Go to where it is above ({(next % told.above.length) + 1} of {told.above.length})
        </Button>
      )}
    </figure>
  );
}
