import { useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { Spotlight, openSpotlight, type SpotlightActionData } from "@mantine/spotlight";
import { useMemo } from "react";
import { useLocation } from "wouter";
import { useKinds } from "../forms/SchemaForm";
import { useAddOperation } from "../stages/route/useAddOperation";
import { STAGES } from "./stages";
import { useJob, useStanding } from "./useJob";
import { firstSetup, useNext } from "./useNext";
import { LOADS } from "../viewport/loads";
import { LOAD_NAMES, useView } from "./view";

/** Everything by its name (Ctrl+K), and the keys that work everywhere. */
export function Commands() {
  const job = useJob();
  const view = useView();
  const { doc, id } = job;
  const { toggleColorScheme } = useMantineColorScheme();
  const [, go] = useLocation();
  useHotkeys(
    [
      ["mod+z", job.undo],
      ["mod+shift+z", job.redo],
      ["mod+y", job.redo],
      ["mod+k", () => openSpotlight()],
    ],
    ["INPUT", "TEXTAREA"],
  );
  const next = useNext();
  const add = useAddOperation();
  const strategies = Object.keys(useKinds("Operation", "params"));
  const running = useStanding().status?.tasks.find((t) => t.state === "running" || t.state === "waiting");
  const rows = doc.operations.filter((o) => view.rows.includes(o.number));
  const actions = useMemo<SpotlightActionData[]>(
    () => [
      ...(next ? [{ id: "next", label: next.words, onClick: next.act }] : []),
      ...STAGES.filter((s) => s.wanted(doc)).map((s) => ({
        id: s.id,
        label: `Go to ${s.title}`,
        onClick: () => view.set({ stage: s.id }),
      })),
      ...doc.setups.map((s) => ({
        id: `compute-${s.id}`,
        label: `Compute and prove ${s.name || s.id}`,
        onClick: () => job.compute(s.id),
      })),
      ...(doc.part && !doc.setups.length
        ? [{ id: "first", label: "Add a setup with the best side up", onClick: () => void firstSetup(job, view) }]
        : []),
      ...(doc.setups.length
        ? [
            {
              id: "propose",
              label: "Propose a route for this setup",
              onClick: () => view.set({ stage: "route", rows: [], proposing: "this" as const }),
            },
            {
              id: "propose-all",
              label: "Propose a route for all sides",
              onClick: () => view.set({ stage: "route", rows: [], proposing: "all" as const }),
            },
            ...strategies.map((s) => ({ id: `add-${s}`, label: `Add an operation: ${s}`, onClick: () => void add(s) })),
          ]
        : []),
      ...rows.map((o) => ({
        id: `switch-${o.number}`,
        label: `Switch row ${o.number} ${o.enabled ? "off" : "on"}`,
        onClick: () =>
          void job.edit([{ path: `operations/${o.number}/enabled`, value: !o.enabled, was: o.enabled }], "switch"),
      })),
      ...(rows.length === 1
        ? [
            ...LOAD_NAMES.map((name) => ({
              id: `load-${name}`,
              label: `Colour the cuts by ${LOADS[name].name}`,
              onClick: () => view.set({ stage: "route", load: name }),
            })),
            { id: "load", label: "Colour the cuts by kind of motion", onClick: () => view.set({ load: "" }) },
            ...(["before", "after"] as const).map((when) => ({
              id: `stock-${when}`,
              label: `Show the stock ${when} row ${rows[0].number}`,
              onClick: () => view.set({ stage: "route", stock: when }),
            })),
            {
              id: "thick",
              label: "Show what is left after the row by its thickness",
              onClick: () => view.set({ stage: "route", stock: "after" as const, thick: true }),
            },
            { id: "no stock", label: "Hide the stock of the row", onClick: () => view.set({ stock: "" }) },
          ]
        : []),
      ...rows.map((o) => ({
        id: `remove-${o.number}`,
        label: `Remove row ${o.number}`,
        onClick: () => void job.edit([{ op: "remove" as const, path: `operations/${o.number}` }], "remove row"),
      })),
      ...(running ? [{ id: "cancel", label: "Cancel what is computed", onClick: () => job.cancel(running.id) }] : []),
      {
        id: "left over",
        label: view.leftOver ? "Hide what is left over" : "Show what is left over",
        onClick: () => view.set({ stage: "route", leftOver: !view.leftOver }),
      },
      {
        id: "deviation",
        label: view.deviation ? "Hide the deviation map" : "Show the deviation map",
        onClick: () => view.set({ stage: "proof", deviation: !view.deviation }),
      },
      {
        id: "sheet",
        label: "Setup sheet",
        onClick: () => window.open(`/api/jobs/${id}/setup-sheet`),
      },
      { id: "undo", label: "Undo", onClick: job.undo },
      { id: "redo", label: "Redo", onClick: job.redo },
      { id: "export", label: "Export this job", onClick: () => window.open(`/api/jobs/${id}/export`) },
      { id: "dark", label: "Switch between light and dark", onClick: toggleColorScheme },
      { id: "jobs", label: "All jobs", onClick: () => go("/") },
    ],
    [add, doc, go, id, job, next, rows, running, strategies, toggleColorScheme, view],
  );
  return (
    <Spotlight
      actions={actions}
      nothingFound="Nothing by that name"
      searchProps={{ placeholder: "Find a command" }}
      shortcut={null}
    />
  );
}
