import { Select } from "@mantine/core";
import type { Operation } from "../../job/document";
import { useJob } from "../../job/useJob";

const KINDS = [
  { value: "chain", label: "what the rows before leave" },
  { value: "before row", label: "what stood before an earlier row" },
  { value: "first stock", label: "the setup's first stock" },
  { value: "no stock", label: "none: the whole box" },
];

/** Which stock a row's path is made for. */
export function SeenStock({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const sees = o.sees ?? { kind: "chain", row: null };
  const own = job.doc.operations.filter((x) => x.setup === o.setup);
  const before = own.slice(
    0,
    own.findIndex((x) => x.number === o.number),
  );
  const put = (value: Operation["sees"]) =>
    job.edit([{ path: `operations/${o.number}/sees`, value, was: sees }], `${o.number} stock it sees`);
  return (
    <details open={sees.kind !== "chain"}>
      <summary>Stock it sees</summary>
      <Select
        size="xs"
        label="Made for"
        description="The proof always cuts the stock that is there"
        allowDeselect={false}
        value={sees.kind}
        data={KINDS.map((k) => ({ ...k, disabled: k.value === "before row" && !before.length }))}
        onChange={(kind) =>
          put({
            kind: kind as Operation["sees"]["kind"],
            row: kind === "before row" ? before[before.length - 1].number : null,
          })
        }
      />
      {sees.kind === "before row" && (
        <Select
          size="xs"
          mt={6}
          label="Before row"
          allowDeselect={false}
          value={String(sees.row)}
          data={before.map((x) => ({ value: String(x.number), label: `${x.number} ${x.name || x.params.strategy}` }))}
          onChange={(v) => put({ kind: "before row", row: Number(v) })}
        />
      )}
    </details>
  );
}
