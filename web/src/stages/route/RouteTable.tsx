import { Button, Group, Text, Tooltip } from "@mantine/core";
import { useState } from "react";
import { type AnyOf, type Operation, type Params, toolLabel } from "../../job/document";
import { type Edit, useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { clock } from "../../theme";
import { loadWords } from "../../viewport/loads";
import { Cell } from "./Cell";

const SIGNS: Record<string, string> = { ready: "✓", "out of date": "↻", computing: "…", failed: "✕", off: "○" };

/** The route sheet: one row for each operation, grouped by setup. */
const UNITS: Record<string, string> = { stepover_percent: "%", engagement_deg: "deg" };

export function RouteTable() {
  const job = useJob();
  const { status } = useStanding();
  const view = useView();
  const [dragged, setDragged] = useState<number | null>(null);
  const states = new Map(status?.operations.map((s) => [s.number, s]));
  const longest = Math.max(1, ...(status?.operations.map((s) => s.time_s ?? 0) ?? []));
  const select = (n: number, more: boolean) =>
    view.set({
      rows: more ? (view.rows.includes(n) ? view.rows.filter((r) => r !== n) : [...view.rows, n]) : [n],
      setup: job.doc.operations.find((o) => o.number === n)!.setup,
    });
  const duplicate = (o: Operation) => {
    const number = Math.floor(Math.max(...job.doc.operations.map((x) => x.number)) / 10) * 10 + 10;
    job.edit([{ op: "add", path: "operations", value: { ...o, number } }], "duplicate");
  };
  const move = (number: number, target: number) =>
    job.edit(
      [
        {
          op: "move",
          path: `operations/${number}`,
          value: job.doc.operations.findIndex((o) => o.number === target),
          check: false,
        } as Edit,
      ],
      "reorder",
    );
  const drop = (target: number) => {
    if (dragged !== null && dragged !== target) move(dragged, target);
  };
  /** One place up or down within its setup. */
  const step = (o: Operation, by: -1 | 1) => {
    const mine = job.doc.operations.filter((x) => x.setup === o.setup);
    const other = mine[mine.indexOf(o) + by];
    if (other) move(o.number, other.number);
  };
  return (
    <div className="scroll">
      <table className="dense" aria-label="Route sheet">
        <thead>
          <tr>
            <th className="n">No.</th>
            <th>What it does</th>
            <th>Tool</th>
            <th className="n">Allowance</th>
            <th className="n">Step</th>
            <th className="n">rpm</th>
            <th className="n">Feed</th>
            <th>Time</th>
            <th>State</th>
            <th />
          </tr>
        </thead>
        {job.doc.setups.map((setup) => {
          const rows = job.doc.operations.filter((o) => o.setup === setup.id);
          const total = status?.setups.find((s) => s.id === setup.id)?.time_s;
          return (
            <tbody key={setup.id}>
              <tr className="group">
                <td />
                <td colSpan={6}>{setup.name || setup.id}</td>
                <td>{clock(total)}</td>
                <td colSpan={2}>
                  <Button
                    size="compact-xs"
                    variant="default"
                    disabled={!rows.length}
                    onClick={() => job.compute(setup.id)}
                  >
                    Compute and prove
                  </Button>
                </td>
              </tr>
              {rows.map((o) => {
                const s = states.get(o.number),
                  tool = job.doc.tools.find((t) => t.number === o.tool),
                  p: AnyOf<Params> = o.params;
                const stepped = (
                  ["stepover_mm", "scallop_mm", "stepover_percent", "side_step_mm", "engagement_deg"] as const
                ).find((n) => p[n] != null);
                return (
                  <tr
                    key={o.number}
                    draggable
                    aria-keyshortcuts="Enter Alt+ArrowUp Alt+ArrowDown"
                    title="Drag, or Alt and an arrow key, to move it"
                    tabIndex={0}
                    aria-selected={view.rows.includes(o.number)}
                    data-state={s?.state}
                    onClick={(e) => select(o.number, e.shiftKey || e.ctrlKey)}
                    onKeyDown={(e) => {
                      if (e.target !== e.currentTarget) return;
                      if (e.key === "Enter") select(o.number, e.shiftKey);
                      if (e.altKey && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
                        e.preventDefault();
                        step(o, e.key === "ArrowUp" ? -1 : 1);
                      }
                    }}
                    onDragStart={() => setDragged(o.number)}
                    onDragOver={(e) => e.preventDefault()}
                    onDrop={() => drop(o.number)}
                  >
                    <td className="n">{o.number}</td>
                    <td style={{ maxWidth: 210, overflow: "hidden", textOverflow: "ellipsis" }}>
                      {o.name || <span className="faint">{o.params.strategy}</span>}
                    </td>
                    <td>
                      T{o.tool} {toolLabel(tool)}
                    </td>
                    <td className="n">
                      <Cell
                        label={`Allowance of ${o.number}`}
                        unit="mm"
                        value={o.params.allowance_mm}
                        path={`operations/${o.number}/params/allowance_mm`}
                      />
                    </td>
                    <td className="n">
                      {stepped ? (
                        <Cell
                          label={`Step of ${o.number}`}
                          unit={UNITS[stepped] ?? "mm"}
                          value={p[stepped] ?? null}
                          path={`operations/${o.number}/params/${stepped}`}
                        />
                      ) : (
                        "–"
                      )}
                    </td>
                    <td className="n">{Math.round(o.spindle_rpm ?? tool?.spindle_rpm ?? 0)}</td>
                    <td className="n">{Math.round(o.cutting_feed_mm_min ?? tool?.cutting_feed_mm_min ?? 0)}</td>
                    <td>
                      {clock(s?.time_s)}
                      {!!s?.time_s && <span className="bar" style={{ width: (60 * s.time_s) / longest }} />}
                    </td>
                    <td>
                      <Tooltip label={s?.reason || s?.state || ""} disabled={!s?.reason} multiline maw={320}>
                        <span className={s?.state === "failed" ? "fault" : s?.state === "out of date" ? "warn" : ""}>
                          {SIGNS[s?.state ?? ""]}{" "}
                          {s?.state === "computing"
                            ? `computing ${Math.round(100 * s.fraction)} %`
                            : s?.state === "ready" && s.cuts === false
                              ? "ready, cuts nothing"
                              : s?.state}
                        </span>
                      </Tooltip>
                      {s?.state === "ready" && s.load?.target_deg != null && (
                        <div className="faint">{loadWords(s.load)}</div>
                      )}
                    </td>
                    <td>
                      <Group gap={4} wrap="nowrap">
                        <Button
                          size="compact-xs"
                          variant="default"
                          aria-label={`Duplicate ${o.number}`}
                          onClick={(e) => {
                            e.stopPropagation();
                            duplicate(o);
                          }}
                        >
                          Duplicate
                        </Button>
                        <Button
                          size="compact-xs"
                          variant="default"
                          aria-label={`Switch ${o.number} ${o.enabled ? "off" : "on"}`}
                          onClick={(e) => {
                            e.stopPropagation();
                            job.edit(
                              [{ path: `operations/${o.number}/enabled`, value: !o.enabled, was: o.enabled }],
                              o.enabled ? "switch off" : "switch on",
                            );
                          }}
                        >
                          {o.enabled ? "Off" : "On"}
                        </Button>
                      </Group>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          );
        })}
      </table>
      {!job.doc.operations.length && (
        <Text className="faint" p={12}>
          No operations yet. Add one in the sheet at the right.
        </Text>
      )}
    </div>
  );
}
