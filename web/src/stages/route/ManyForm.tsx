import { Button, Group, Text } from "@mantine/core";
import { SchemaForm, useKinds } from "../../forms/SchemaForm";
import type { Fields, Operation } from "../../job/document";
import { useJob } from "../../job/useJob";
import { APART } from "./apart";

/** One value for many rows. */
export function ManyForm({ operations }: { operations: Operation[] }) {
  const job = useJob();
  const schema = useKinds("Operation", "params")[operations[0].params.strategy];
  const spread = (fields: string[], what: string) => {
    const [first, ...rest] = operations;
    job.edit(
      rest.flatMap((o) =>
        fields.map((n) => ({
          path: `operations/${o.number}/params/${n}`,
          value: (first.params as Fields)[n] ?? null,
          check: false,
        })),
      ),
      `${what} of ${first.number}`,
    );
  };
  const shared = ["allowance_mm", "floor_allowance_mm", "tolerance_mm"];
  const same = operations.every((o) => o.params.strategy === operations[0].params.strategy);
  const skip = Object.keys(schema?.properties ?? {}).filter((n) => APART.includes(n) || (!same && !shared.includes(n)));
  return (
    <>
      <Text fw={600} mb={8}>
        {operations.length} rows together
      </Text>
      <Group gap={6} mb={8}>
        <Button
          size="compact-sm"
          variant="default"
          disabled={!same}
          onClick={() =>
            spread(
              Object.keys(schema?.properties ?? {}).filter((n) => n !== "targets" && n !== "strategy"),
              "values",
            )
          }
        >
          Values of {operations[0].number} to all
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          disabled={!operations.every((o) => "targets" in o.params)}
          onClick={() => spread(["targets"], "geometry")}
        >
          Geometry of {operations[0].number} to all
        </Button>
      </Group>
      <SchemaForm
        schema={schema}
        skip={skip}
        folded={schema?.folded}
        value={operations[0].params}
        onChange={(f, v) =>
          job.edit(
            operations.map((o) => ({
              path: `operations/${o.number}/params/${f}`,
              value: v,
              was: (o.params as Fields)[f],
            })),
            `${operations.length} rows`,
          )
        }
      />
    </>
  );
}
