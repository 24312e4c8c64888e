import { Button, Switch, Text } from "@mantine/core";
import type { Finding } from "../../api/client";
import { SchemaForm, useModelSchema } from "../../forms/SchemaForm";
import { getMoment } from "../../job/moment";
import { Bodies } from "../../machine/Bodies";
import { JointReadout } from "../../machine/JointReadout";
import { useProof } from "../../job/queries";
import { SetupChoice } from "../../job/SetupChoice";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { clock } from "../../theme";

const MARKS: Record<string, string> = { fault: "✕", attention: "△", note: "·" };

type Deviation = { min_mm: number; max_mm: number; within_tolerance_fraction: number };

type Result = { worst_gouge_mm: number; worst_excess_mm: number; peak_engagement_deg: number };

/** The motion of a finding to go to: the worst first, then one after the other. */
function placeOf(f: Finding, moment: number): number {
  const all = [f.motion ?? 0, ...(f.also ?? []).map((o) => o.motion ?? 0)];
  return all[(all.indexOf(moment - 1) + 1) % all.length];
}

/** Findings, deviation and what the proof holds results against. */
export function ProofSheet() {
  const job = useJob();
  const { status } = useStanding();
  const view = useView();
  const proof = useProof(view.setup);
  const settings = useModelSchema("ProofSettings");
  const state = status?.setups.find((s) => s.id === view.setup);
  const p = proof.data;
  const deviation = p?.deviation as Deviation;
  const results = (p?.by_operation ?? {}) as Record<string, Result | undefined>;
  return (
    <>
      <SetupChoice />
      {state?.proof !== "ready" && (
        <>
          <Text mb={8}>
            {state ? "The proof is out of date." : "There is nothing to prove yet."} {state?.problem}
          </Text>
          {state && (
            <Button size="xs" mb={12} onClick={() => job.compute(view.setup)}>
              Compute and prove
            </Button>
          )}
        </>
      )}
      {p && (
        <>
          <fieldset>
            <legend>Result</legend>
            <Switch
              size="xs"
              mb={10}
              label="Deviation map"
              checked={view.deviation}
              onChange={(e) =>
                view.set({
                  deviation: e.currentTarget.checked,
                  ...(e.currentTarget.checked ? { motion: p.motions } : {}),
                })
              }
            />
            <dl className="facts">
              <dt>Time</dt>
              <dd>{clock(p.time_s)}</dd>
              <dt>Deviation</dt>
              <dd data-testid="deviation">
                {deviation.min_mm.toFixed(3).replace("-", "−")} … {deviation.max_mm.toFixed(3)} mm
              </dd>
              <dt>Within ±{job.doc.proof.band_mm} mm</dt>
              <dd>{(100 * deviation.within_tolerance_fraction).toFixed(1)} %</dd>
              <dt>Program against path</dt>
              <dd>{(1000 * p.program_vs_path_mm).toFixed(2)} µm</dd>
            </dl>
            <table className="dense">
              <thead>
                <tr>
                  <th className="n">No.</th>
                  <th className="n">Gouge</th>
                  <th className="n">Excess</th>
                  <th className="n">Engaged</th>
                  <th className="n">Time</th>
                </tr>
              </thead>
              <tbody>
                {p.operations_in_order.map((n) => {
                  const r = results[n];
                  return (
                    <tr key={n}>
                      <td className="n">{n}</td>
                      <td className="n">{r?.worst_gouge_mm.toFixed(3)}</td>
                      <td className="n">{r?.worst_excess_mm.toFixed(3)}</td>
                      <td className="n">{r?.peak_engagement_deg.toFixed(0)}°</td>
                      <td className="n">{clock(p.time_by_operation[n])}</td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </fieldset>
          <fieldset>
            <legend>Findings: {p.findings.length || "none"}</legend>
            {p.findings.map((f, k) => (
              <button
                key={k}
                type="button"
                className={`finding ${f.severity}`}
                onClick={() => view.set({ motion: placeOf(f, getMoment()) + 1, deviation: false })}
              >
                <b>
                  {MARKS[f.severity]} {f.kind}
                </b>
                {f.operation ? ` in ${f.operation}` : ""}
                {f.time_s != null ? ` at ${clock(f.time_s)}` : ""}
                {(f.places ?? 1) > 1 && <span className="faint"> · {f.places} stretches, click for the next</span>}
                <br />
                {f.message} <span className="faint">{f.advice}</span>
              </button>
            ))}
          </fieldset>
          <JointReadout setup={view.setup} />
          <Bodies setup={view.setup} />
        </>
      )}
      <details>
        <summary>Limits of the proof</summary>
        <SchemaForm
          schema={settings}
          value={job.doc.proof}
          onChange={(field, value, was) => job.edit([{ path: `proof/${field}`, value, was }], "proof limits")}
        />
      </details>
    </>
  );
}
