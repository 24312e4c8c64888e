import { metaOf } from "../job/machine";
import { useMachine } from "../job/queries";
import { useValues } from "../job/useValues";

const NEAR = 0.05;
const plain = (v: number | null) => (v === null ? "–" : String(v).replace("-", "−"));

/** The joints of a machine at the moment, each between its ends. */
export function JointReadout({ setup }: { setup: string }) {
  const machine = useMachine(setup).data;
  const values = useValues(setup, null);
  if (!machine || !values) return null;
  return (
    <fieldset>
      <legend>Joints at the moment</legend>
      <table className="dense joints" data-testid="joint readout">
        <tbody>
          {metaOf(machine).joints.map((joint, k) => {
            const { low, high } = joint,
              value = values[k];
            const share = low !== null && high !== null ? (value - low) / (high - low) : null;
            const state =
              share === null ? "" : share < 0 || share > 1 ? "beyond" : share < NEAR || share > 1 - NEAR ? "near" : "";
            return (
              <tr key={joint.name} className={state}>
                <td>{joint.name}</td>
                <td className="n">{plain(low)}</td>
                <td className="between">
                  {share !== null && (
                    <meter
                      min={0}
                      max={1}
                      value={Math.min(1, Math.max(0, share))}
                      aria-label={`${joint.name} between its ends`}
                    />
                  )}
                </td>
                <td className="n">{plain(high)}</td>
                <td className="n">
                  {state && (state === "near" ? "△ " : "✕ ")}
                  {Number.isFinite(value) ? value.toFixed(2).replace("-", "−") : "–"}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </fieldset>
  );
}
