import { Button, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { onlyFields, SchemaForm, useKinds, useModelSchema } from "../../forms/SchemaForm";
import { type FaceSelector, type Operation, type Params, toolLabel } from "../../job/document";
import { pick, usePicks } from "../../job/picking";
import { useSpeeds } from "../../job/queries";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { BoundaryPicker } from "./BoundaryPicker";
import { CopiesForm } from "./CopiesForm";
import { FenceFields } from "./FenceFields";
import { FileOfJob } from "./FileOfJob";
import { APART } from "./apart";
import { HeldLoad } from "./HeldLoad";
import { RouteGeometry } from "./RouteGeometry";
import { SeenStock } from "./SeenStock";
import { TextLines } from "./TextLines";
import { Unreached } from "./Unreached";

export function OperationForm({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const { status } = useStanding();
  const view = useView();
  const picks = usePicks();
  const schema = useKinds("Operation", "params")[o.params.strategy];
  const [name, setName] = useState(o.name);
  useEffect(() => setName(o.name), [o.name]);
  const at = `operations/${o.number}`;
  const put = (field: string, value: unknown, was: unknown) =>
    job.edit([{ path: `${at}/${field}`, value, was }], `${o.number} ${field}`);
  const state = status?.operations.find((s) => s.number === o.number);
  const p = o.params as Params & {
    scallop_mm?: number | null;
    stepover_mm?: number | null;
    engagement_deg?: number;
    boundary?: { kind: string; faces?: FaceSelector[]; sketch?: string };
  };
  const grid = job.doc.setups.find((s) => s.id === o.setup)?.grid as
    { columns: number; rows: number } | null | undefined;
  const byScallop = "scallop_mm" in p && p.scallop_mm != null;
  const pickFaces = picks.purpose === "boundary";
  const change = (field: string, value: unknown, was: unknown) => put(`params/${field}`, value, was);
  const special = Object.fromEntries(
    Object.entries(schema?.properties ?? {})
      .filter(([, field]) => field.brings)
      .map(([field, { brings, title }]) => {
        const was = String((o.params as Record<string, unknown>)[field] ?? "");
        return [
          field,
          <div key={field} className="vector-wide">
            <FileOfJob label={title ?? field} value={was} accept={brings!} onChange={(v) => change(field, v, was)} />
          </div>,
        ];
      }),
  );
  for (const [field, { names, title, description }] of Object.entries(schema?.properties ?? {}))
    if (names === "tool") {
      const was = (o.params as Record<string, unknown>)[field] as number | null;
      special[field] = (
        <Select
          key={field}
          className="vector-wide"
          size="xs"
          label={title}
          description={description}
          value={was == null ? "" : String(was)}
          allowDeselect={false}
          data={[
            { value: "", label: "what the stock holds" },
            ...job.doc.tools
              .filter((t) => t.number !== o.tool)
              .map((t) => ({ value: String(t.number), label: `T${t.number} ${toolLabel(t)}` })),
          ]}
          onChange={(v) => change(field, v ? Number(v) : null, was)}
        />
      );
    }
  const cutter = job.doc.tools.find((t) => t.number === o.tool)?.cutter;
  const held = schema?.properties?.engagement_deg;
  const speeds = useSpeeds(o.tool, !!held).data;
  if (p.engagement_deg !== undefined && cutter && held)
    special.engagement_deg = (
      <HeldLoad
        label={held.title ?? ""}
        hint={held.description}
        range={{ min: held.minimum, max: held.maximum }}
        key="engagement_deg"
        engagement={p.engagement_deg}
        diameter={cutter.diameter_mm}
        known={speeds && job.doc.material ? { load: job.doc.load, width: speeds.proposal.width_mm.value } : undefined}
        onChange={(v) => change("engagement_deg", v, p.engagement_deg)}
      />
    );
  return (
    <>
      <Text fw={600} mb={4}>
        {o.number} · {o.params.strategy}
      </Text>
      {state && (
        <Text mb={8} className={state.state === "failed" ? "fault" : "faint"}>
          {state.state}
          {state.state !== "computing" && state.reason && `: ${state.reason}`}
        </Text>
      )}
      <Unreached number={o.number} />
      <fieldset>
        <TextInput
          size="xs"
          label="What it does"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          onBlur={() => name !== o.name && put("name", name, o.name)}
        />
        <Select
          size="xs"
          mt={6}
          label="Tool"
          allowDeselect={false}
          value={String(o.tool)}
          data={job.doc.tools.map((t) => ({ value: String(t.number), label: `T${t.number} ${toolLabel(t)}` }))}
          onChange={(v) => put("tool", Number(v), o.tool)}
        />
        {grid && (
          <Select
            size="xs"
            mt={6}
            label="Copies"
            allowDeselect={false}
            value={String(o.instance ?? "")}
            data={[
              { value: "", label: "all together" },
              ...Array.from({ length: grid.columns * grid.rows }, (_, k) => ({
                value: String(k + 1),
                label: `only number ${k + 1}`,
              })),
            ]}
            onChange={(v) => put("instance", v ? Number(v) : null, o.instance)}
          />
        )}
      </fieldset>
      {"targets" in p && <RouteGeometry operation={o} takes={schema?.takes ?? []} />}
      <fieldset>
        <legend>Path</legend>
        {"scallop_mm" in p && (
          <SegmentedControl
            size="xs"
            fullWidth
            mb={8}
            aria-label="Spacing of passes"
            value={byScallop ? "scallop" : "stepover"}
            data={[
              { value: "stepover", label: "Stepover" },
              { value: "scallop", label: "Scallop height" },
            ]}
            onChange={(v) =>
              job.edit(
                v === "scallop"
                  ? [
                      { path: `${at}/params/stepover_mm`, value: null, was: p.stepover_mm },
                      { path: `${at}/params/scallop_mm`, value: 0.01, was: p.scallop_mm },
                    ]
                  : [
                      { path: `${at}/params/scallop_mm`, value: null, was: p.scallop_mm },
                      { path: `${at}/params/stepover_mm`, value: 0.4, was: p.stepover_mm },
                    ],
                "spacing",
              )
            }
          />
        )}
        <SchemaForm
          schema={schema}
          value={o.params}
          skip={[...APART, ...("scallop_mm" in p ? [byScallop ? "stepover_mm" : "scallop_mm"] : [])]}
          folded={schema?.folded}
          special={special}
          onChange={change}
        />
      </fieldset>
      {"keep_out" in p && !("targets" in p) && job.doc.sketches.length > 0 && (
        <fieldset>
          <legend>Boundary</legend>
          <FenceFields operation={o} />
        </fieldset>
      )}
      {p.boundary && (
        <fieldset>
          <legend>Boundary</legend>
          <SegmentedControl
            size="xs"
            fullWidth
            aria-label="Boundary"
            value={pickFaces ? "faces" : p.boundary.kind}
            data={[
              { value: "part outline", label: "Part outline" },
              { value: "faces", label: "Picked faces" },
              { value: "sketch", label: "Sketch", disabled: !job.doc.sketches.length },
            ]}
            onChange={(v) => {
              if (v === "faces") return pick({ purpose: "boundary", faces: [], edges: [] });
              pick({ purpose: "" });
              change(
                "boundary",
                v === "sketch" ? { kind: "sketch", sketch: job.doc.sketches[0].id } : { kind: "part outline" },
                p.boundary,
              );
            }}
          />
          {!pickFaces && p.boundary.kind === "sketch" && (
            <Select
              size="xs"
              mt={6}
              label="Sketch"
              description="Closed curves; one inside another is kept out"
              allowDeselect={false}
              value={p.boundary.sketch ?? null}
              data={job.doc.sketches.map((s) => ({ value: s.id, label: s.name || s.id }))}
              onChange={(v) => change("boundary", { kind: "sketch", sketch: v }, p.boundary)}
            />
          )}
          {pickFaces && (
            <BoundaryPicker
              onDone={(faces) => {
                pick({ purpose: "", faces: [] });
                change("boundary", { kind: "faces", faces }, p.boundary);
              }}
            />
          )}
          {!pickFaces && p.boundary.kind === "faces" && (
            <Text mt={6} className="faint">
              {p.boundary.faces?.length} faces picked
            </Text>
          )}
        </fieldset>
      )}
      <SeenStock operation={o} />
      <CopiesForm operation={o} />
      <details>
        <summary>Speeds of this row, removing it</summary>
        <SchemaForm
          schema={onlyFields(useModelSchema("Operation"), ["spindle_rpm", "cutting_feed_mm_min"])}
          value={o}
          onChange={(f, v, w) => put(f, v, w)}
        />
        <Button
          mt={8}
          size="compact-xs"
          variant="default"
          onClick={() => {
            job.edit([{ op: "remove", path: at }], `remove ${o.number}`);
            view.set({ rows: [] });
          }}
        >
          Remove this row
        </Button>
      </details>
      {Object.values(schema?.properties ?? {}).some((f) => f.brings) && <TextLines operation={o} />}
    </>
  );
}
