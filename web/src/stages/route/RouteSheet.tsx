import { Button, Group, Menu, Text } from "@mantine/core";
import { type ModelSchema, useKinds } from "../../forms/SchemaForm";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { ManyForm } from "./ManyForm";
import { OperationForm } from "./OperationForm";
import { IdleRows } from "./IdleRows";
import { OrderOffer } from "./LeftOver";
import { RouteProposal } from "./RouteProposal";
import { useAddOperation } from "./useAddOperation";

/** Strategies by what they are for, as they declare it themselves. */
function groupsOf(kinds: Record<string, ModelSchema>): [string, string[]][] {
  const groups = new Map<string, string[]>();
  const inOrder = Object.entries(kinds).sort(([, a], [, b]) => (a.order ?? 0) - (b.order ?? 0));
  for (const [name, schema] of inOrder)
    groups.set(schema.group ?? "", [...(groups.get(schema.group ?? "") ?? []), name]);
  return [...groups];
}

/** The form of the selected row, or the way to add one. */
export function RouteSheet() {
  const job = useJob();
  const view = useView();
  const kinds = useKinds("Operation", "params");
  const busy = job.doc.setups.filter((s) => job.doc.operations.some((o) => o.setup === s.id && o.enabled));
  const selected = job.doc.operations.filter((o) => view.rows.includes(o.number));
  const add = useAddOperation();
  const ready = job.doc.part && job.doc.setups.length > 0 && job.doc.tools.length > 0;
  return (
    <>
      <Group gap={8} mb={12}>
        <Menu>
          <Menu.Target>
            <Button size="xs" variant="default" disabled={!ready}>
              Add an operation
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            {groupsOf(kinds).map(([title, own]) => [
              <Menu.Label key={title}>{title}</Menu.Label>,
              ...own.map((s) => (
                <Menu.Item key={s} onClick={() => add(s)}>
                  {s}
                </Menu.Item>
              )),
            ])}
          </Menu.Dropdown>
        </Menu>
        <Button
          size="xs"
          variant="default"
          disabled={!job.doc.part || !view.setup}
          onClick={() => view.set({ rows: [], proposing: "this" })}
        >
          Propose a route
        </Button>
        <Button
          size="xs"
          variant="default"
          disabled={!job.doc.operations.some((o) => o.setup === view.setup && o.enabled)}
          onClick={() => job.compute(view.setup)}
        >
          Compute and prove
        </Button>
        {busy.length > 1 && (
          <Button size="xs" variant="default" onClick={() => busy.forEach((s) => job.compute(s.id))}>
            All {busy.length} setups
          </Button>
        )}
      </Group>
      {!ready && (
        <Text className="faint">
          A route needs a part, a setup and a tool. The rail at the left shows what is missing.
        </Text>
      )}
      {view.proposing && <RouteProposal onClose={() => view.set({ proposing: "" })} />}
      {!view.proposing && selected.length === 0 && (
        <>
          <IdleRows />
          <OrderOffer />
        </>
      )}
      {selected.length === 1 && <OperationForm key={selected[0].number} operation={selected[0]} />}
      {selected.length > 1 && <ManyForm operations={selected} />}
      {selected.length === 0 && ready && !view.proposing && (
        <Text className="faint">Select a row of the route sheet to edit it and to see its path.</Text>
      )}
    </>
  );
}
