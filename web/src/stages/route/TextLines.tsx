import { Button, Group, Switch, Text, TextInput } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import type { AnyOf, Operation, Params } from "../../job/document";
import { useJob } from "../../job/useJob";

const PAGE = 100;

/** The lines of a cutter location text as they stand; each can be changed, dropped or have one put in after it. */
export function TextLines({ operation: o }: { operation: Operation }) {
  const job = useJob();
  const params = o.params as AnyOf<Params>;
  const [first, setFirst] = useState(1);
  const [onlyWrong, setOnlyWrong] = useState(false);
  const [open, setOpen] = useState<{ line: number; act: "replace" | "put in after"; text: string } | null>(null);
  const found = useQuery({
    queryKey: ["records", job.id, o.number, job.version, first, onlyWrong],
    enabled: !!params.file,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(
        api.GET("/api/jobs/{job_id}/operations/{number}/records", {
          params: {
            path: { job_id: job.id, number: o.number },
            query: { first: onlyWrong ? 1 : first, count: PAGE, wrong: onlyWrong },
          },
        }),
      ),
  });
  if (!params.file) return null;
  const edits = params.edits ?? [];
  const keep = (edit: { act: "replace" | "put in after" | "drop"; line: number; text: string }) => {
    setOpen(null);
    void job.edit(
      [{ path: `operations/${o.number}/params/edits`, value: [...edits, edit], was: edits }],
      `${edit.act} line ${edit.line}`,
    );
  };
  const records = found.data?.records ?? [];
  return (
    <fieldset>
      <legend>Lines</legend>
      {found.error && <Text className="fault">{found.error.message}</Text>}
      {found.data && (
        <Group gap={8} mb={6}>
          <Text size="xs">
            {found.data.all} records, {found.data.wrong ? `✕ ${found.data.wrong} not understood` : "all understood"}
            {edits.length > 0 && `, ${edits.length} changed`}
          </Text>
          <Switch
            size="xs"
            label="only what is not understood"
            checked={onlyWrong}
            onChange={(e) => setOnlyWrong(e.currentTarget.checked)}
          />
        </Group>
      )}
      <table className="dense lines" aria-label={`Lines of ${params.file}`}>
        <tbody>
          {records.map((r) => (
            <tr key={r.line}>
              <td className="n">{r.line}</td>
              <td className="record">
                {open?.line === r.line ? (
                  <TextInput
                    size="xs"
                    autoFocus
                    aria-label={`Text of line ${r.line}`}
                    value={open.text}
                    onChange={(e) => setOpen({ ...open, text: e.currentTarget.value })}
                    onKeyDown={(e) => {
                      if (e.key === "Enter") keep({ act: open.act, line: r.line, text: open.text });
                      if (e.key === "Escape") setOpen(null);
                    }}
                  />
                ) : (
                  <>
                    <code>{r.text}</code>
                    <br />
                    <span className={r.wrong ? "fault" : "faint"}>{r.wrong ? `✕ ${r.wrong}` : r.says}</span>
                  </>
                )}
              </td>
              <td>
                <Group gap={2} wrap="nowrap">
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Change line ${r.line}`}
                    onClick={() => setOpen({ line: r.line, act: "replace", text: r.text })}
                  >
                    Change
                  </Button>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Put a line in after line ${r.line}`}
                    title="Put a line in after this one"
                    onClick={() => setOpen({ line: r.line, act: "put in after", text: "" })}
                  >
                    +
                  </Button>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Drop line ${r.line}`}
                    title="Drop this line"
                    onClick={() => keep({ act: "drop", line: r.line, text: "" })}
                  >
                    −
                  </Button>
                </Group>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!onlyWrong && (found.data?.all ?? 0) > PAGE && (
        <Group gap={6} mt={6}>
          <Button
            size="compact-xs"
            variant="default"
            disabled={first <= 1}
            onClick={() => setFirst(Math.max(1, first - PAGE))}
          >
            Before
          </Button>
          <Button
            size="compact-xs"
            variant="default"
            disabled={records.length < PAGE}
            onClick={() => setFirst(records[records.length - 1].line + 1)}
          >
            After
          </Button>
        </Group>
      )}
    </fieldset>
  );
}
