import { Button, Select, Switch, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { memo, useCallback, useEffect, useLayoutEffect, useRef, useState, type ReactNode } from "react";
import { api, take } from "../api/client";
import { NumberField } from "./NumberField";

export type Field = {
  type?: string;
  title?: string;
  description?: string;
  unit?: string;
  idle?: boolean;
  default?: unknown;
  const?: unknown;
  enum?: string[];
  anyOf?: Field[];
  maxLength?: number;
  minimum?: number;
  maximum?: number;
  exclusiveMinimum?: number;
  exclusiveMaximum?: number;
  $ref?: string;
  items?: Field;
  shown?: boolean;
  when?: Record<string, unknown>;
  brings?: string;
  names?: string;
  discriminator?: { mapping: Record<string, string> };
  oneOf?: Field[];
};
export type ModelSchema = {
  title?: string;
  description?: string;
  required?: string[];
  properties: Record<string, Field>;
  group?: string;
  left_to?: string;
  order?: number;
  cutters?: string[];
  fresh?: Record<string, unknown>;
  of_diameter?: Record<string, number>;
  folded?: string[];
  takes?: string[];
};

/** The schema of the job document; an open job waits for it, so that no form grows under the pointer. */
export const useSchema = () =>
  useQuery({ queryKey: ["schema"], queryFn: () => take(api.GET("/api/schema")), staleTime: Infinity });

/** All models of the job document, as the server tells them. */
export function useDefs(): Record<string, ModelSchema> | undefined {
  return (useSchema().data as { $defs?: Record<string, ModelSchema> } | undefined)?.$defs;
}

/** The schema of one model of the job document. */
export const useModelSchema = (model: string): ModelSchema | undefined => useDefs()?.[model];

/** Some fields of a model, as a model. */
export const onlyFields = (schema: ModelSchema | undefined, names: string[]) =>
  schema && { properties: Object.fromEntries(names.map((n) => [n, schema.properties[n]])) };

/** The models that a field of one of several kinds can be: kind → schema. */
export function useKinds(model: string, field: string): Record<string, ModelSchema> {
  const defs = useDefs(),
    own = defs?.[model]?.properties[field] as (Field & { items?: Field }) | undefined;
  const mapping =
    (own?.discriminator ?? own?.items?.discriminator ?? own?.anyOf?.find((f) => f.discriminator)?.discriminator)
      ?.mapping ?? {};
  return Object.fromEntries(Object.entries(mapping).map(([kind, ref]) => [kind, defs![ref.split("/").pop()!]]));
}

/** An object of a kind with its defaults; what has none is taken from `seed`. */
export function freshOf(
  kind: string,
  schema: ModelSchema,
  seed: Record<string, unknown> = {},
  tag = "kind",
): Record<string, unknown> {
  const made: Record<string, unknown> = { [tag]: kind };
  for (const name of schema.required ?? []) if (name !== tag && seed[name] !== undefined) made[name] = seed[name];
  return made;
}

type Props = {
  schema: ModelSchema | undefined;
  value: Record<string, unknown>;
  skip?: string[];
  folded?: string[];
  onChange: (field: string, value: unknown, was: unknown) => Promise<string> | void;
  special?: Record<string, ReactNode>;
  onDraft?: (field: string, value: number) => void;
};

/** A form made from a model's schema: titles, units, ranges, defaults and help come from one place. */
export function SchemaForm({ schema, value, skip = [], folded = [], onChange, special = {}, onDraft }: Props) {
  // A field is drawn again when it has changed itself, not when somebody changed something else in the job.
  const latest = useRef({ onChange, onDraft });
  useLayoutEffect(() => void (latest.current = { onChange, onDraft }));
  const change = useCallback<Props["onChange"]>((...what) => latest.current.onChange(...what), []);
  const draft = useCallback<NonNullable<Props["onDraft"]>>((...what) => latest.current.onDraft?.(...what), []);
  if (!schema) return null;
  const names = Object.keys(schema.properties).filter(
    (n) =>
      !skip.includes(n) &&
      schema.properties[n].const === undefined &&
      !schema.properties[n].idle &&
      Object.entries(schema.properties[n].when ?? {}).every(
        ([other, wanted]) => (value[other] ?? schema.properties[other].default) === wanted,
      ),
  );
  const draw = (name: string) =>
    special[name] ?? (
      <SchemaField
        key={name}
        name={name}
        field={schema.properties[name]}
        value={value[name] ?? schema.properties[name].default}
        onChange={change}
        onDraft={draft}
      />
    );
  const rest = names.filter((n) => folded.includes(n));
  return (
    <>
      <div className="two">{names.filter((n) => !folded.includes(n)).map(draw)}</div>
      {rest.length > 0 && (
        <details>
          <summary>More</summary>
          <div className="two">{rest.map(draw)}</div>
        </details>
      )}
    </>
  );
}

const SchemaField = memo(function SchemaField({
  name,
  field,
  value,
  onChange,
  onDraft,
}: {
  name: string;
  field: Field;
  value: unknown;
  onChange: Props["onChange"];
  onDraft: NonNullable<Props["onDraft"]>;
}) {
  const inner = field.anyOf?.find((f) => f.type !== "null") ?? field;
  const label = field.title ?? name;
  const optional = !!field.anyOf?.some((f) => f.type === "null");
  if (inner.type === "number" || inner.type === "integer") {
    return (
      <NumberField
        label={label}
        value={value as number | null}
        unit={field.unit ?? inner.unit}
        optional={optional}
        hint={field.description}
        range={{ min: inner.minimum, above: inner.exclusiveMinimum, max: inner.maximum ?? inner.exclusiveMaximum }}
        placeholder={optional ? "automatic" : undefined}
        onDraft={(v) => onDraft(name, v)}
        onCommit={(v) => onChange(name, v, value)}
      />
    );
  }
  if (inner.enum) {
    return (
      <Select
        size="xs"
        label={label}
        description={field.description}
        data={inner.enum.map((v) => ({ value: v, label: v || "–" }))}
        value={value as string}
        allowDeselect={false}
        onChange={(v) => onChange(name, v, value)}
      />
    );
  }
  if (inner.type === "boolean") {
    return (
      <Switch
        size="xs"
        mt={22}
        label={label}
        checked={!!value}
        onChange={(e) => onChange(name, e.currentTarget.checked, value)}
      />
    );
  }
  if (field.shown && inner.items?.$ref)
    return <ListField name={name} field={field} of={inner.items.$ref} value={value as Row[]} onChange={onChange} />;
  if (field.shown && Array.isArray(value))
    return <VectorField name={name} field={field} value={value as number[]} onChange={onChange} />;
  if (inner.type === "string")
    return (
      <TextField
        label={label}
        hint={field.description}
        value={(value as string) ?? ""}
        onCommit={(v) => onChange(name, v, value)}
      />
    );
  return null;
});

type Row = Record<string, unknown>;
type Of<T> = { name: string; field: Field; value: T; onChange: Props["onChange"] };

/** A direction or a place: three numbers beside one another. */
function VectorField({ name, field, value, onChange }: Of<number[]>) {
  return (
    <div className="vector">
      {["X", "Y", "Z"].map((letter, k) => (
        <NumberField
          key={letter}
          label={`${field.title ?? name} ${letter}`}
          value={value[k]}
          unit={field.unit}
          hint={k === 0 ? field.description : undefined}
          onCommit={(v) =>
            onChange(
              name,
              value.map((old, i) => (i === k ? v : old)),
              value,
            )
          }
        />
      ))}
    </div>
  );
}

/** Things of one kind, each with a form of its own. */
function ListField({ name, field, of, value, onChange }: Of<Row[]> & { of: string }) {
  const schema = useModelSchema(of.split("/").pop()!);
  const rows = value ?? [];
  return (
    <div className="vector">
      <span className="faint">{field.title ?? name}</span>
      {rows.map((row, k) => (
        <div key={k} className="vector">
          <SchemaForm
            schema={schema}
            value={row}
            onChange={(part, v) =>
              onChange(
                name,
                rows.map((old, i) => (i === k ? { ...old, [part]: v } : old)),
                rows,
              )
            }
          />
          <Button
            size="compact-xs"
            variant="default"
            onClick={() =>
              onChange(
                name,
                rows.filter((_, i) => i !== k),
                rows,
              )
            }
          >
            Take out
          </Button>
        </div>
      ))}
      <Button size="compact-xs" variant="default" onClick={() => onChange(name, [...rows, rows.at(-1) ?? {}], rows)}>
        Add
      </Button>
    </div>
  );
}

/** A line of text that is kept when it is left or Enter is pressed. */
export function TextField({
  label,
  value,
  hint,
  onCommit,
  placeholder,
}: {
  label: string;
  value: string;
  hint?: string;
  placeholder?: string;
  onCommit: (value: string) => Promise<string> | void;
}) {
  const [text, setText] = useState(value);
  const [error, setError] = useState("");
  useEffect(() => {
    setText(value);
    setError("");
  }, [value]);
  const commit = async () => {
    if (text !== value) setError((await onCommit(text)) || "");
  };
  return (
    <TextInput
      size="xs"
      label={label}
      description={hint}
      placeholder={placeholder}
      value={text}
      error={error || undefined}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={commit}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") setText(value);
      }}
    />
  );
}
