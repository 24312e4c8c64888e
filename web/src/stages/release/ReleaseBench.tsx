import { Button, Group, Select, Text, TextInput } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { useMoment } from "../../job/moment";
import { useColumns, usePrograms } from "../../job/queries";
import { toolLabel } from "../../job/document";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { counted } from "../../words";
import { toolStarts, wordsOf } from "./words";

/** The posted program; its line follows the tool, and a click on a line moves the tool there. */
export function ReleaseBench() {
  const view = useView();
  const { doc } = useJob();
  const programs = usePrograms(view.setup);
  const columns = useColumns(view.setup);
  const c = columns.data;
  const moment = useMoment();
  const here =
    c && moment > 0
      ? { program: c.program[Math.min(moment, c.line.length) - 1], line: c.line[Math.min(moment, c.line.length) - 1] }
      : { program: 0, line: -1 };
  const program = programs.data?.[here.program];
  const lines = useMemo(() => program?.text.split("\n").slice(0, -1) ?? [], [program]);
  const [find, setFind] = useState("");
  const [seen, setSeen] = useState(-1);
  const hits = useMemo(() => {
    const wanted = find.trim().toUpperCase();
    return wanted ? lines.flatMap((l, k) => (l.toUpperCase().includes(wanted) ? [k] : [])) : [];
  }, [find, lines]);
  const tools = useMemo(() => (c ? toolStarts(c, here.program) : []), [c, here.program]);
  const scroll = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => 20,
    overscan: 12,
  });
  useEffect(() => {
    if (here.line >= 0 && lines.length) rows.scrollToIndex(here.line, { align: "auto" });
  }, [here.line, lines.length, rows]);
  if (!program)
    return (
      <Text className="faint" p={12}>
        The program appears when the route has been computed and proved.
      </Text>
    );
  const go = (line: number) => {
    if (!c) return;
    let best = -1;
    for (let i = 0; i < c.line.length; i++)
      if (c.program[i] === here.program && c.line[i] <= line) best = i;
      else if (c.program[i] > here.program) break;
    view.set({ motion: best + 1 });
  };
  const toolAt = ({ line, tool }: { line: number; tool: number }) =>
    `${line + 1}: T${tool} ${toolLabel(doc.tools.find((t) => t.number === tool))}`;
  const next = (way: 1 | -1) => {
    const line = way > 0 ? hits.find((h) => h > seen) : hits.filter((h) => h < seen).at(-1);
    const to = line ?? (way > 0 ? hits[0] : hits[hits.length - 1]);
    if (to === undefined) return;
    setSeen(to);
    rows.scrollToIndex(to, { align: "center" });
  };
  const firstOf = (k: number) => {
    if (c) {
      const i = (c.program as Int32Array).indexOf(k);
      view.set({ motion: i + 1 });
    }
  };
  return (
    <>
      <Group px={10} pt={8} pb={4} gap={6}>
        <TextInput
          size="xs"
          w={190}
          type="search"
          aria-label="Find in the program"
          placeholder="Find in the program"
          value={find}
          onChange={(e) => setFind(e.currentTarget.value)}
          onKeyDown={(e) => e.key === "Enter" && next(e.shiftKey ? -1 : 1)}
        />
        <Button size="compact-sm" variant="default" disabled={!hits.length} onClick={() => next(-1)}>
          Before
        </Button>
        <Button size="compact-sm" variant="default" disabled={!hits.length} onClick={() => next(1)}>
          Next
        </Button>
        <Text className="faint" role="status" w={70}>
          {find && (hits.length ? counted(hits.length, "line") : "none")}
        </Text>
        <Select
          size="xs"
          w={210}
          aria-label="Jump to a tool"
          placeholder={`Jump to one of ${counted(tools.length, "tool")}`}
          value={null}
          data={tools.map((t) => ({ value: String(t.line), label: toolAt(t) }))}
          onChange={(v) => v && go(Number(v))}
        />
      </Group>
      {programs.data!.length > 1 && (
        <Group px={10} pb={4} gap={6}>
          {programs.data!.map((p, k) => (
            <Button
              key={p.name}
              size="compact-xs"
              variant={k === here.program ? "filled" : "default"}
              onClick={() => firstOf(k)}
            >
              {p.name}
            </Button>
          ))}
        </Group>
      )}
      <div
        ref={scroll}
        className="scroll code"
        role="listbox"
        aria-label="Program text"
        tabIndex={0}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") {
            go(Math.min(here.line + 1, lines.length - 1));
            e.preventDefault();
          }
          if (e.key === "ArrowUp") {
            go(Math.max(here.line - 1, 0));
            e.preventDefault();
          }
        }}
      >
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((r) => (
            <div
              key={r.key}
              role="option"
              aria-selected={r.index === here.line}
              className={r.index === seen && find ? "found" : undefined}
              style={{ transform: `translateY(${r.start}px)` }}
              onClick={() => go(r.index)}
            >
              <span className="no">{r.index + 1}</span>
              {wordsOf(lines[r.index]).map((w, k) => (
                <span key={k} className={w.look}>
                  {w.text}
                </span>
              ))}
            </div>
          ))}
        </div>
      </div>
    </>
  );
}
