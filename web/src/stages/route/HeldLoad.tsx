import { NumberField, type Range } from "../../forms/NumberField";
import { arcOf, stepoverOf } from "./held";

const SIDE = 78,
  CUTTER = 24,
  MIDDLE = 34;

/** The arc of the cutter that a path holds, as an angle or as its stepover beside a straight wall, with both drawn. */
export function HeldLoad({
  engagement,
  diameter,
  label,
  hint,
  range,
  onChange,
}: {
  engagement: number;
  diameter: number;
  label: string;
  hint?: string;
  range: Range;
  onChange: (engagement: number) => Promise<string> | void;
}) {
  const stepover = stepoverOf(engagement, diameter),
    share = stepover / diameter,
    asStepover = (deg?: number) => (deg === undefined ? undefined : stepoverOf(deg, diameter));
  return (
    <div className="vector-wide held">
      <NumberField
        label={label}
        hint={hint}
        value={engagement}
        unit="deg"
        range={range}
        onCommit={(v) => (v === null ? undefined : onChange(v))}
      />
      <NumberField
        label="Same as stepover"
        hint={`Beside a straight wall; ${(100 * share).toFixed(0)} % of the diameter`}
        value={Math.round(stepover * 1e3) / 1e3}
        unit="mm"
        range={{ min: asStepover(range.min), max: asStepover(range.max) }}
        onCommit={(v) => (v === null ? undefined : onChange(Math.round(arcOf(v, diameter) * 10) / 10))}
      />
      <HeldDrawing engagement={engagement} share={share} />
    </div>
  );
}

function HeldDrawing({ engagement, share }: { engagement: number; share: number }) {
  const wall = MIDDLE + CUTTER - 2 * CUTTER * share,
    turn = (engagement * Math.PI) / 180,
    end = [MIDDLE + CUTTER * Math.sin(turn), MIDDLE + CUTTER * Math.cos(turn)];
  return (
    <svg
      width={SIDE}
      height={SIDE}
      viewBox={`0 0 ${SIDE} ${SIDE}`}
      role="img"
      aria-label={`The cutter, seen along its axis, goes to the right with ${engagement.toFixed(0)} degrees in material`}
    >
      <path className="held-stock" d={`M${MIDDLE} ${MIDDLE + CUTTER}H0V${SIDE}H${SIDE}V${wall}H${end[0]}Z`} />
      <circle className="held-cutter" cx={MIDDLE} cy={MIDDLE} r={CUTTER} />
      <path className="held-arc" d={`M${MIDDLE} ${MIDDLE + CUTTER}A${CUTTER} ${CUTTER} 0 0 0 ${end[0]} ${end[1]}`} />
      <path className="held-way" d={`M${MIDDLE} ${MIDDLE}h14m-4 -3l4 3l-4 3`} />
    </svg>
  );
}
