import { Select, Text } from "@mantine/core";
import { api, type Schemas, take } from "../../api/client";
import { FaceRow } from "../../job/FaceRow";
import { useFeatures, usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { f } from "./references";

const WAYS = ["automatic", "drill", "ream", "tap", "bore milling", "thread milling", "back boring", "leave"];

type Hole = NonNullable<Schemas["Recognition"]["holes"]>[number];

/** The steps of a hole beside its bore, in words. */
const widened = (h: Hole) =>
  h.steps
    .filter((s) => s.kind === "counterbore" || s.kind === "countersink")
    .map((s) => `${s.kind} ⌀${f(s.diameter_mm)} × ${f(s.depth_mm)}`);

/** Alike holes in one row each, and how they are made; the route follows. */
export function HoleTable() {
  const job = useJob();
  const part = usePart();
  const found = useFeatures(null);
  if (found.error)
    return (
      <Text p={12} className="faint">
        {found.error.message}
      </Text>
    );
  if (!found.data || !part.data)
    return (
      <Text p={12} className="faint">
        Looking for holes …
      </Text>
    );
  const groups = new Map<number, Hole[]>();
  for (const h of found.data.holes ?? []) groups.set(h.group ?? 0, [...(groups.get(h.group ?? 0) ?? []), h]);
  if (!groups.size)
    return (
      <Text p={12} className="faint">
        The part has no holes.
      </Text>
    );
  const refs = part.data.faces;
  const same = (a: { centroid: number[] }, b: { centroid: number[] }) =>
    a.centroid.every((v, i) => Math.abs(v - b.centroid[i]) < 1e-6);
  const choices = job.doc.hole_choices;
  const bore = (h: Hole) => refs[(h.steps.find((s) => s.kind === "bore") ?? h.steps[0]).faces[0]].reference;
  const wayOf = (holes: Hole[]) => {
    const ways = new Set(holes.map((h) => choices.find((c) => same(c.face, bore(h)))?.way ?? "automatic"));
    return ways.size === 1 ? [...ways][0] : null;
  };
  const choose = async (holes: Hole[], way: string) => {
    let left: { why: string }[] = [];
    await job.run(async () => {
      const done = await take(
        api.POST("/api/jobs/{job_id}/holes/way", {
          params: { path: { job_id: job.id } },
          body: { faces: holes.flatMap((h) => h.faces), way: way as Schemas["HolesMade"]["way"] },
        }),
      );
      left = done.uncovered;
      return done;
    });
    if (left.length) job.setNote(`${left.length} holes left: ${left[0].why}.`);
  };
  return (
    <div className="scroll">
      <table className="dense" aria-label="Holes">
        <thead>
          <tr>
            <th className="n">How many</th>
            <th className="n">⌀, mm</th>
            <th className="n">Depth</th>
            <th>End</th>
            <th>Thread it would fit</th>
            <th>Made by</th>
          </tr>
        </thead>
        <tbody>
          {[...groups.values()]
            .sort((a, b) => a[0].diameter_mm - b[0].diameter_mm)
            .map((holes) => {
              const h = holes[0],
                faces = holes.flatMap((x) => x.faces);
              return (
                <FaceRow key={h.name} faces={faces}>
                  <td className="n">{holes.length}</td>
                  <td className="n">{f(h.diameter_mm, 3)}</td>
                  <td className="n">{f(h.depth_mm)}</td>
                  <td>{[h.through ? "through" : "blind", ...widened(h)].join(", ")}</td>
                  <td>{h.threads?.join(", ")}</td>
                  <td onClick={(e) => e.stopPropagation()}>
                    <Select
                      size="xs"
                      w={140}
                      aria-label={`How holes of ${f(h.diameter_mm, 3)} mm are made`}
                      value={wayOf(holes)}
                      placeholder="differs"
                      data={WAYS}
                      allowDeselect={false}
                      onChange={(v) => v && choose(holes, v)}
                    />
                  </td>
                </FaceRow>
              );
            })}
        </tbody>
      </table>
    </div>
  );
}
