/** The next step of a job, as one act: from a model to a proven program. */
import { api, take } from "../api/client";
import { type Standing, useJob, useStanding } from "./useJob";
import { useView } from "./view";

export type Next = { words: string; act: () => void };

export function useNext(): Next | null {
  const job = useJob();
  const view = useView();
  const { doc } = job;
  const { status } = useStanding();
  if (!doc.part || !status) return null;
  if (!doc.setups.length) return { words: "Next: hold the part", act: () => void firstSetup(job, view) };
  const busy = doc.setups.filter((s) => doc.operations.some((o) => o.setup === s.id && o.enabled));
  if (!busy.length)
    return view.proposing && view.stage === "route"
      ? null
      : {
          words: "Next: a route",
          act: () => view.set({ stage: "route", setup: view.setup || doc.setups[0].id, rows: [], proposing: "all" }),
        };
  if (status.tasks.some((t) => t.state === "running" || t.state === "waiting")) return null;
  const ids = busy.map((s) => s.id);
  const again = status.tasks[0]?.state === "failed";
  if (open(status, ids).length)
    return {
      words: again ? "Next: compute again" : "Next: compute and prove",
      act: () => void job.run(() => computeOpen(job, ids)),
    };
  const faulty = status.setups.find((s) => ids.includes(s.id) && s.faults);
  if (faulty) return { words: "Next: look at the findings", act: () => view.set({ stage: "proof", setup: faulty.id }) };
  return view.stage === "release" ? null : { words: "Next: the program", act: () => view.set({ stage: "release" }) };
}

/** Setups that want computing; one that the status does not know yet has just been made. */
function open(status: Standing, ids: string[]) {
  return ids.filter((id) => {
    const known = status.setups.find((s) => s.id === id);
    return !known || (known.proof !== "ready" && !known.problem);
  });
}

/** Computes what is open now: who clicks at once is quicker than the status of what has just been changed. */
async function computeOpen(job: ReturnType<typeof useJob>, ids: string[]) {
  const status = await take(api.GET("/api/jobs/{job_id}/status", { params: { path: { job_id: job.id } } }));
  open(status, ids).forEach((id) => job.compute(id));
}

/** Holds the part with its best side up, and says why. */
export async function firstSetup(job: ReturnType<typeof useJob>, view: ReturnType<typeof useView>) {
  let words = "";
  const failed = await job.run(async () => {
    const found = await take(api.GET("/api/jobs/{job_id}/first-setup", { params: { path: { job_id: job.id } } }));
    words = found.words;
    view.set({ stage: "setups", setup: found.setup.id });
    return take(
      api.PATCH("/api/jobs/{job_id}", {
        params: { path: { job_id: job.id } },
        body: { label: "first setup", changes: [{ op: "add", path: "setups", value: found.setup, check: false }] },
      }),
    );
  });
  if (!failed) job.setNote(`${words} Another side can be chosen below.`, true);
}
