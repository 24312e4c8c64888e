import { Select, Switch } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, take } from "../api/client";
import { NumberField } from "./NumberField";

type Field = {
  type?: string; title?: string; description?: string; unit?: string; default?: unknown; const?: unknown; enum?: string[]; anyOf?: Field[];
  minimum?: number; maximum?: number; exclusiveMinimum?: number; $ref?: string; discriminator?: unknown; oneOf?: Field[];
};
export type ModelSchema = { properties: Record<string, Field> };

/** The schema of one model of the job document, as the server tells it. */
export function useModelSchema(model: string): ModelSchema | undefined {
  const schema = useQuery({ queryKey: ["schema"], queryFn: () => take(api.GET("/api/schema")), staleTime: Infinity });
  return (schema.data as { $defs?: Record<string, ModelSchema> } | undefined)?.$defs?.[model];
}

type Props = {
  schema: ModelSchema | undefined; value: Record<string, unknown>; skip?: string[]; folded?: string[];
  onChange: (field: string, value: unknown, was: unknown) => Promise<string> | void; special?: Record<string, ReactNode>;
};

/** A form made from a model's schema: titles, units, ranges, defaults and help come from one place. */
export function SchemaForm({ schema, value, skip = [], folded = [], onChange, special = {} }: Props) {
  if (!schema) return null;
  const names = Object.keys(schema.properties).filter((n) => !skip.includes(n) && schema.properties[n].const === undefined);
  const draw = (name: string) => special[name] ?? <SchemaField key={name} name={name} field={schema.properties[name]} value={value[name]} onChange={onChange} />;
  const rest = names.filter((n) => folded.includes(n));
  return (
    <>
      <div className="two">{names.filter((n) => !folded.includes(n)).map(draw)}</div>
      {rest.length > 0 && <details><summary>More</summary><div className="two">{rest.map(draw)}</div></details>}
    </>
  );
}

function SchemaField({ name, field, value, onChange }: { name: string; field: Field; value: unknown; onChange: Props["onChange"] }) {
  const inner = field.anyOf?.find((f) => f.type !== "null") ?? field;
  const label = field.title ?? name;
  const optional = !!field.anyOf?.some((f) => f.type === "null");
  if (inner.type === "number" || inner.type === "integer") {
    return <NumberField label={label} value={value as number | null} unit={field.unit ?? inner.unit} optional={optional} hint={field.description}
      range={{ min: inner.minimum, above: inner.exclusiveMinimum, max: inner.maximum }} placeholder={optional ? "automatic" : undefined}
      onCommit={(v) => onChange(name, v, value)} />;
  }
  if (inner.enum) {
    return <Select size="xs" label={label} description={field.description} data={inner.enum} value={value as string} allowDeselect={false} onChange={(v) => onChange(name, v, value)} />;
  }
  if (inner.type === "boolean") {
    return <Switch size="xs" mt={22} label={label} checked={!!value} onChange={(e) => onChange(name, e.currentTarget.checked, value)} />;
  }
  return null;
}
