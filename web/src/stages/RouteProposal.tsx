import { Button, Group, SegmentedControl, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schemas } from "../api/client";
import { SchemaForm, useModelSchema } from "../forms/SchemaForm";
import { useCoverage } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";

/** A route proposed from the features, its rules, and taking it. */
export function RouteProposal({ onClose }: { onClose: () => void }) {
  const job = useJob();
  const view = useView();
  const [sides, setSides] = useState<"this" | "all">("this");
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
      {found.error && <Text className="fault">{found.error.message}</Text>}
      {found.isLoading && (
        <Text className="faint" role="status">
          Looking at holes, pockets and edges …
        </Text>
      )}
      {p && (
        <>
          <Text mb={6}>
            {p.setups.length > 0 && `${p.setups.length} new setups, `}
            {p.operations.length} rows, {p.tools.length} tools from the shop
            {p.uncovered.length > 0 && <span className="warn">, △ {p.uncovered.length} features left</span>}
          </Text>
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
            <Button size="xs" disabled={!p.operations.length} loading={job.saving} onClick={takeIt}>
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

/** What no operation makes: counted, listed, shown in the part. */
export function LeftOver() {
  const view = useView();
  const found = useCoverage();
  if (found.error)
    return (
      <Text p={12} className="faint">
        {found.error.message}
      </Text>
    );
  if (!found.data)
    return (
      <Text p={12} className="faint">
        Comparing features with the route …
      </Text>
    );
  const left = found.data.uncovered;
  if (!left.length) return <Text p={12}>✓ All {found.data.features} features are made by some operation.</Text>;
  return (
    <div className="scroll">
      <Text px={8} py={5}>
        {left.length} of {found.data.features} features are made by no operation.{" "}
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => view.set({ faces: left.flatMap((u) => u.faces), edges: [] })}
        >
          Pick them all
        </Button>
      </Text>
      <table className="dense" aria-label="Left over">
        <thead>
          <tr>
            <th>Feature</th>
            <th>Kind</th>
            <th>Size, mm</th>
          </tr>
        </thead>
        <tbody>
          {left.map((u) => (
            <tr
              key={u.name}
              tabIndex={0}
              onClick={() => view.set({ faces: u.faces, edges: [] })}
              onKeyDown={(e) => e.key === "Enter" && view.set({ faces: u.faces, edges: [] })}
              onMouseEnter={() => view.set({ lit: u.faces })}
              onMouseLeave={() => view.set({ lit: [] })}
            >
              <td>{u.name}</td>
              <td>{u.kind}</td>
              <td>
                {u.words} {u.why}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Fewer tool changes: a proposal with what it saves. */
export function OrderOffer() {
  const job = useJob();
  const view = useView();
  const params = { params: { path: { job_id: job.id, setup_id: view.setup } } };
  const found = useQuery({
    queryKey: ["order", job.id, view.setup, job.version],
    enabled: !!view.setup,
    retry: false,
    queryFn: () => take(api.GET("/api/jobs/{job_id}/setups/{setup_id}/order", params)),
  });
  const o = found.data;
  if (!o || o.changes_after >= o.changes_before) return null;
  const takeIt = () => job.run(() => take(api.POST("/api/jobs/{job_id}/setups/{setup_id}/order", params)));
  return (
    <fieldset>
      <legend>Order</legend>
      <Text mb={6}>
        {o.changes_before} tool changes; {o.changes_after} would do, {Math.round(o.saves_s)} s less.
      </Text>
      <Button size="compact-sm" variant="default" onClick={takeIt}>
        Take that order
      </Button>
    </fieldset>
  );
}
