import { Button, Group, SegmentedControl, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { SchemaForm, useModelSchema } from "../../forms/SchemaForm";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { counted } from "../../words";
import { MaterialChoice } from "../tools/MaterialForm";

/** A route proposed from the features, its rules, and taking it. */
export function RouteProposal({ onClose }: { onClose: () => void }) {
  const job = useJob();
  const { saving } = useStanding();
  const view = useView();
  const [sides, setSides] = useState<"this" | "all">(view.proposing || "this");
  const params = { params: { path: { job_id: job.id, setup_id: view.setup }, query: { sides } } };
  const found = useQuery({
    queryKey: ["route proposal", job.id, view.setup, job.version, sides],
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/route-proposal", params)),
  });
  const takeIt = async () => {
    if (!(await job.run(() => take(api.POST("/api/jobs/{job_id}/setups/{setup_id}/route-proposal", params)))))
      onClose();
  };
  const p = found.data as Schemas["RouteProposal"] | undefined;
  const named = new Map([...job.doc.setups, ...(p?.setups ?? [])].map((s) => [s.id, s.name || s.id]));
  return (
    <fieldset>
      <legend>Proposed route</legend>
      <SegmentedControl
        size="xs"
        mb={6}
        fullWidth
        aria-label="Sides to propose for"
        value={sides}
        onChange={(v) => setSides(v as "this" | "all")}
        data={[
          { value: "this", label: "This setup" },
          { value: "all", label: "All sides of the part" },
        ]}
      />
      <MaterialChoice />
      {found.error && <Text className="fault">{found.error.message}</Text>}
      {found.isLoading && (
        <Text className="faint" role="status">
          Looking at holes, pockets and edges …
        </Text>
      )}
      {p && (
        <>
          <Text mb={6}>
            {p.setups.length > 0 && `${counted(p.setups.length, "new setup")}, `}
            {counted(p.operations.length, "row")}, {counted(p.tools.length, "tool")} from the shop
            {p.uncovered.length > 0 && <span className="warn">, △ {counted(p.uncovered.length, "feature")} left</span>}
          </Text>
          {(p.assumed ?? []).map((words) => (
            <Text key={words} className="warn" mb={6} role="note">
              △ {words}
            </Text>
          ))}
          <div style={{ maxHeight: "45vh", overflow: "auto" }}>
            <table className="dense" aria-label="Proposed rows">
              <tbody>
                {p.operations.map((o) => (
                  <tr key={o.number}>
                    <td className="n">{o.number}</td>
                    <td style={{ whiteSpace: "normal" }}>
                      {sides === "all" && `${named.get(o.setup) ?? o.setup}: `}
                      {o.name}{" "}
                      <span className="faint">
                        T{o.tool} · {p.reasons.find((r) => r.number === o.number)?.rule}
                      </span>
                    </td>
                  </tr>
                ))}
                {p.uncovered.map((u) => (
                  <tr key={u.name}>
                    <td>△</td>
                    <td style={{ whiteSpace: "normal" }} className="warn">
                      {u.name}, {u.words}: {u.why}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <Group gap={8} mt={8}>
            <Button size="xs" disabled={!p.operations.length} loading={saving} onClick={takeIt}>
              Take this route
            </Button>
            <Button size="xs" variant="default" onClick={onClose}>
              Leave it
            </Button>
          </Group>
        </>
      )}
      <RecipeForm />
    </fieldset>
  );
}

/** The rules behind the proposal; they belong to the job and can be kept for the shop. */
function RecipeForm() {
  const job = useJob();
  const keep = async () => {
    if (!(await job.run(() => take(api.PUT("/api/library/recipe", { body: job.doc.recipe as never })))))
      job.setNote("The rules are kept for new jobs.", true);
  };
  return (
    <details>
      <summary>Rules</summary>
      <SchemaForm
        schema={useModelSchema("Recipe")}
        value={job.doc.recipe}
        onChange={(field, value, was) => job.edit([{ path: `recipe/${field}`, value, was }], "rules")}
      />
      <Button mt={8} size="compact-xs" variant="default" onClick={keep}>
        Keep these rules for the shop
      </Button>
    </details>
  );
}
