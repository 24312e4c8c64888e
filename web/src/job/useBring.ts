/** Brings a model file into the job, and says what it changed. */
import { useCallback } from "react";
import { api, take } from "../api/client";
import { withFile } from "../forms/PickFile";
import { pick } from "./picking";
import { useActs } from "./useJob";
import type { View } from "./view";

export function useBring(view: View) {
  const { id, setNote, reload } = useActs();
  return useCallback(
    async (file: File) => {
      setNote(`Reading ${file.name} …`, true);
      try {
        const answer = await take(
          api.PUT("/api/jobs/{job_id}/part", { params: { path: { job_id: id } }, ...withFile(file) }),
        );
        const changed = Object.entries(answer.changed ?? {})
          .filter(([k]) => k !== "same")
          .map(([k, n]) => `${n} ${k}`)
          .join(", ");
        const lost = answer.lost ?? [];
        if (lost.length)
          setNote(
            `New version of the model: ${changed}. Pick again, since the face or edge is gone: ${lost.join(", ")}.`,
          );
        else
          setNote(
            changed
              ? `New version of the model: ${changed} faces. Everything that was picked has been found again.`
              : null,
            true,
          );
        reload();
        pick({ faces: [], edges: [], lit: [] });
        view.set({ stage: "part" });
      } catch (e) {
        setNote((e as Error).message);
      }
    },
    [id, setNote, reload, view],
  );
}
