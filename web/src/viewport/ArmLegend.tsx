import { useMoving } from "../job/moving";
import { PAINTS, STEPS } from "./ArmPath";

/** What the colours of an arm's path mean, in numbers. */
export function ArmLegend() {
  const { paint } = useMoving();
  if (paint === "plain") return null;
  const { name, low, high, unit } = PAINTS[paint];
  const step = (high - low) / STEPS.length;
  const text = (v: number) => (high > 10 ? v.toFixed(0) : v.toFixed(2));
  return (
    <div className="legend" aria-label={`Path coloured by ${name}`}>
      <span>
        {name} {unit}
      </span>
      {STEPS.map((colour, k) => (
        <span key={colour}>
          <i style={{ borderColor: colour }} />
          {k === 0
            ? `below ${text(low + step)}`
            : k === STEPS.length - 1
              ? `above ${text(high - step)}`
              : `to ${text(low + (k + 1) * step)}`}
        </span>
      ))}
    </div>
  );
}
