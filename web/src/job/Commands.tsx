import { useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { Spotlight, openSpotlight, type SpotlightActionData } from "@mantine/spotlight";
import { useMemo } from "react";
import { useLocation } from "wouter";
import { STAGES } from "./stages";
import { useJob } from "./useJob";
import { useView } from "./view";

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
  const actions = useMemo<SpotlightActionData[]>(
    () => [
      ...STAGES.map((s) => ({ id: s.id, label: `Go to ${s.title}`, onClick: () => view.set({ stage: s.id }) })),
      ...doc.setups.map((s) => ({
        id: `compute-${s.id}`,
        label: `Compute and prove ${s.name || s.id}`,
        onClick: () => job.compute(s.id),
      })),
      { id: "undo", label: "Undo", onClick: job.undo },
      { id: "redo", label: "Redo", onClick: job.redo },
      { id: "export", label: "Export this job", onClick: () => window.open(`/api/jobs/${id}/export`) },
      { id: "dark", label: "Switch between light and dark", onClick: toggleColorScheme },
      { id: "jobs", label: "All jobs", onClick: () => go("/") },
    ],
    [doc.setups, go, id, job, toggleColorScheme, view],
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
