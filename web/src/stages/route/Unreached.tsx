import { Button, Text } from "@mantine/core";
import { useKinds } from "../../forms/SchemaForm";
import { toolLabel } from "../../job/document";
import { usePath } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { followingTool, followUp } from "./followUp";

const at = (place: number[]) => <span className="faint">at {place.map((v) => v.toFixed(1)).join(", ")}</span>;

type Place = { reason: string; advice: string; place: number[]; stick_out_mm?: number | null };

/** What of a row is not cut, and where its feed is held back. */
export function Unreached({ number }: { number: number }) {
  const job = useJob();
  const view = useView();
  const kinds = useKinds("Operation", "params");
  const meta = usePath(number).data?.meta;
  const places: Place[] = meta?.unreached ?? [];
  const stickOut = Math.max(0, ...places.map((u) => u.stick_out_mm ?? 0));
  const row = job.doc.operations.find((o) => o.number === number);
  // Where no tool is long enough, a smaller one still comes to the places that are only too narrow.
  const narrow = places.some((u) => !u.stick_out_mm);
  const tool =
    row && (followingTool(job.doc, row, kinds, stickOut) ?? (narrow ? followingTool(job.doc, row, kinds) : undefined));
  const follow = async () => {
    const made = followUp(job.doc, row!, tool!, kinds);
    if (!(await job.edit(made.edits, "rough what is left"))) view.set({ rows: [made.number] });
  };
  const limits: { words: string; motions: number; least_share: number; place: number[] }[] = meta?.feed_limits ?? [];
  return (
    <>
      {places.length > 0 && (
        <fieldset>
          <legend>Not reached: {places.length}</legend>
          {places.slice(0, 6).map((u, k) => (
            <Text key={k} className="warn" mb={4}>
              ◆ {u.reason} {u.advice} {at(u.place)}
            </Text>
          ))}
          {tool && (
            <Button size="compact-xs" variant="default" onClick={follow}>
              Rough what is left with T{tool.number} {toolLabel(tool)}
            </Button>
          )}
        </fieldset>
      )}
      {limits.length > 0 && (
        <fieldset>
          <legend>Feed held back</legend>
          {limits.map((limit) => (
            <Text key={limit.words} mb={4}>
              On {limit.motions} {limit.motions === 1 ? "arc" : "arcs"} the edge keeps down to{" "}
              {Math.round(100 * limit.least_share)} % of the feed: {limit.words}, {at(limit.place)}
            </Text>
          ))}
        </fieldset>
      )}
    </>
  );
}
