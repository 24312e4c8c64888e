import { Button, Text } from "@mantine/core";
import { NumberField, type Range } from "../../forms/NumberField";
import { arcOf, loadOf, stepoverOf, type WidthAtLoad, widthOf } from "./held";

const SIDE = 78,
  CUTTER = 24,
  MIDDLE = 34;

/** The arc of the cutter that a path holds, as an angle, as its stepover beside a straight wall, or as the load that
 * proposes that; with both drawn. */
export function HeldLoad({
  engagement,
  diameter,
  label,
  hint,
  range,
  known,
  onChange,
}: {
  engagement: number;
  diameter: number;
  label: string;
  hint?: string;
  range: Range;
  /** What the job's load proposes; nothing where the job has no material. */
  known?: WidthAtLoad;
  onChange: (engagement: number) => Promise<string> | void;
}) {
  const whole = (width: number) => Math.round(arcOf(width, diameter) * 10) / 10;
  const inRange = (deg: number) => Math.min(Math.max(deg, range.min ?? deg), range.max ?? deg);
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
        onCommit={(v) => (v === null ? undefined : onChange(whole(v)))}
      />
      <HeldDrawing engagement={engagement} share={share} />
      {known ? (
        <>
          <NumberField
            label="Same as load"
            hint="0: cautious, 100: hard, in this material"
            value={Math.round(100 * loadOf(stepover, known))}
            unit="%"
            range={{ min: -50, max: 300 }}
            onCommit={(v) => (v === null ? undefined : onChange(inRange(whole(widthOf(v / 100, known)))))}
          />
          <Button
            size="compact-xs"
            variant="default"
            className="held-take"
            onClick={() => onChange(inRange(whole(known.width)))}
          >
            As the job: {Math.round(100 * known.load)} %
          </Button>
        </>
      ) : (
        <Text className="faint vector-wide">With a material chosen under Tools, this is shown as a load as well.</Text>
      )}
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
