import { Button, Text } from "@mantine/core";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** Rows of the setup that are proven and cut nothing: named, and taken out by one click. */
export function IdleRows() {
  const job = useJob();
  const view = useView();
  const idle = new Set(
    job.status?.operations.filter((s) => s.state === "ready" && s.cuts === false).map((s) => s.number),
  );
  const rows = job.doc.operations.filter((o) => o.setup === view.setup && idle.has(o.number));
  if (!rows.length) return null;
  const takeOut = () =>
    job.edit(
      rows.map((o) => ({ op: "remove" as const, path: `operations/${o.number}` })),
      "take out rows that cut nothing",
    );
  return (
    <fieldset>
      <legend>Cuts nothing</legend>
      <Text mb={6}>
        {rows.map((o) => `${o.number} ${o.name}`.trim()).join(", ")}: proven, and nothing stands where{" "}
        {rows.length === 1 ? "it" : "they"} would cut.
      </Text>
      <Button size="compact-sm" variant="default" loading={job.saving} onClick={takeOut}>
        Take {rows.length === 1 ? "it" : "them"} out
      </Button>
    </fieldset>
  );
}
