import { CellInput } from "../../forms/CellInput";
import type { Operation } from "../../job/document";
import type { MachineJoint } from "../../job/machine";
import { useJob } from "../../job/useJob";

type Range = NonNullable<NonNullable<Operation["arm"]>["ranges"]>[number];
const plain = (v: number | null) => (v === null ? "none" : String(v).replace("-", "−"));

/** One end of a joint: the cell's own where nothing is typed, else the narrower one that this row keeps to. */
export function RangeEnd({ row, joint, end }: { row: Operation; joint: MachineJoint; end: "low" | "high" }) {
  const job = useJob();
  const own = row.arm?.ranges ?? [];
  const mine = own.find((r) => r.joint === joint.name);
  const value = mine && mine[end] !== joint[end] ? mine[end] : null;
  const commit = (typed: number | null) => {
    const next: Range = {
      joint: joint.name,
      low: mine?.low ?? joint.low ?? -36_000,
      high: mine?.high ?? joint.high ?? 36_000,
    };
    next[end] = typed ?? joint[end] ?? next[end];
    const whole = next.low === (joint.low ?? -36_000) && next.high === (joint.high ?? 36_000);
    const ranges = [...own.filter((r) => r.joint !== joint.name), ...(whole ? [] : [next])];
    const change = { path: `operations/${row.number}/arm`, value: { ...(row.arm ?? {}), ranges }, was: row.arm };
    return job.edit([change], `range of ${joint.name}`);
  };
  return (
    <CellInput
      value={value}
      placeholder={plain(joint[end])}
      label={`${end === "low" ? "Lowest" : "Highest"} of ${joint.name}`}
      unit={joint.unit}
      onCommit={commit}
      onWrong={job.setNote}
    />
  );
}
