import { Group, Select, Text } from "@mantine/core";
import { api, take } from "../../api/client";
import { isBody, keptName, PickFile, withFile } from "../../forms/PickFile";
import { freshOf, SchemaForm, useKinds } from "../../forms/SchemaForm";
import type { AnyOf, Setup, Stock } from "../../job/document";
import { usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import type { Put } from "./fields";

/** The stock: its shape, allowances, rounding up to what the shop keeps. */
export function StockForm({ setup, size, put }: { setup: Setup; size: number[] | null; put: Put }) {
  const job = useJob();
  const part = usePart().data;
  const kinds = useKinds("Setup", "stock");
  const stock = setup.stock;
  const bodies = ((part?.summary.bodies ?? []) as { name: string }[]).map((b) => b.name);
  const earlier = job.doc.setups
    .slice(
      0,
      job.doc.setups.findIndex((s) => s.id === setup.id),
    )
    .map((s) => ({ value: s.id, label: s.name || s.id }));
  const meshes = job.doc.files.filter(isBody);
  const choose = (kind: string) => {
    const seed = { body: bodies[bodies.length - 1], file: meshes[0], setup: earlier[earlier.length - 1]?.value };
    const need = { body: "body", file: "file", "earlier setup": "setup" }[kind] as keyof typeof seed | undefined;
    if (need && !seed[need])
      return job.setNote(
        {
          body: "The model has no other body.",
          file: "Bring the stock's file in first.",
          setup: "There is no setup before this one.",
        }[need],
      );
    return void put("stock", freshOf(kind, kinds[kind], seed), stock, "stock");
  };
  const bring = async (file: File) => {
    try {
      await take(api.PUT("/api/jobs/{job_id}/files", { params: { path: { job_id: job.id } }, ...withFile(file) }));
      await put("stock", { kind: "file", file: keptName(file) }, stock, "stock");
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  const any: AnyOf<Stock> = stock;
  const choice = (
    field: "body" | "file" | "setup",
    label: string,
    data: React.ComponentProps<typeof Select>["data"],
  ) => (
    <Select
      key={field}
      size="xs"
      label={label}
      value={String(any[field])}
      data={data}
      allowDeselect={false}
      onChange={(v) => put(`stock/${field}`, v, any[field], `stock ${field}`)}
    />
  );
  const choices = {
    body: choice("body", "Body", bodies),
    file: choice("file", "File", meshes),
    setup: choice("setup", "After setup", earlier),
  };
  return (
    <fieldset>
      <legend>Stock</legend>
      <Group gap={6} mb={6} align="end" wrap="nowrap">
        <Select
          size="xs"
          style={{ flex: 1 }}
          label="Shape"
          value={stock.kind}
          data={Object.keys(kinds).map((k) => ({ value: k, label: k === "box" ? "block" : k }))}
          allowDeselect={false}
          onChange={(k) => k && k !== stock.kind && choose(k)}
        />
        <PickFile accept=".step,.stp,.stl,.3mf,.obj,.brep,.iges,.igs" size="xs" variant="default" onFile={bring}>
          From a file
        </PickFile>
      </Group>
      <SchemaForm
        schema={kinds[stock.kind]}
        value={stock}
        skip={["kind"]}
        folded={["round_up"]}
        special={choices}
        onChange={(field, value, was) => put(`stock/${field}`, value, was, "stock")}
      />
      {size && (
        <Text mt={6} className="faint">
          {stock.kind === "box" ? "Block" : "Box"} of {size.map((v) => v.toFixed(2)).join(" × ")} mm
        </Text>
      )}
    </fieldset>
  );
}
