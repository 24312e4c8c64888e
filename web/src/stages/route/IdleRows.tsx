import { Button, Text } from "@mantine/core";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";

/** Rows of the setup that are proven and cut nothing: named, with what they left out, and taken out by one click. */
export function IdleRows() {
  const job = useJob();
  const { status, saving } = useStanding();
  const view = useView();
  const states = status?.operations.filter((s) => s.state === "ready" && s.cuts === false) ?? [];
  const why = new Map(states.map((s) => [s.number, s.reason]));
  const rows = job.doc.operations.filter((o) => o.setup === view.setup && why.has(o.number));
  if (!rows.length) return null;
  const found = rows.filter((o) => !why.get(o.number));
  const named = (o: (typeof rows)[number]) => `${o.number} ${o.name}`.trim();
  const takeOut = () =>
    job.edit(
      rows.map((o) => ({ op: "remove" as const, path: `operations/${o.number}` })),
      "take out rows that cut nothing",
    );
  return (
    <fieldset>
      <legend>Cuts nothing</legend>
      {found.length > 0 && (
        <Text mb={6}>
          {found.map(named).join(", ")}: proven, and nothing stands where {found.length === 1 ? "it" : "they"} would
          cut.
        </Text>
      )}
      {rows
        .filter((o) => why.get(o.number))
        .map((o) => (
          <Text key={o.number} mb={6}>
            {named(o)}: {why.get(o.number)}
          </Text>
        ))}
      <Button size="compact-sm" variant="default" loading={saving} onClick={takeOut}>
        Take {rows.length === 1 ? "it" : "them"} out
      </Button>
    </fieldset>
  );
}
