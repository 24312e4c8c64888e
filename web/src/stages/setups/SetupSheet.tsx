import { Button, Group, SegmentedControl, Text } from "@mantine/core";
import { useJob } from "../../job/useJob";
import { firstSetup } from "../../job/useNext";
import { useView } from "../../job/view";
import { SetupForm } from "./SetupForm";

/** One clamping: which way is up, stock, work zero, machine and heights. */
export function SetupSheet() {
  const job = useJob();
  const view = useView();
  const setup = job.doc.setups.find((s) => s.id === view.setup);
  const add = async () => {
    if (!job.doc.setups.length) return firstSetup(job, view);
    let n = job.doc.setups.length + 1;
    while (job.doc.setups.some((s) => s.id === `s${n}`)) n++;
    const fresh = { id: `s${n}`, name: `Setup ${n}`, machine: job.doc.machines[0]?.name ?? "" };
    if (!(await job.edit([{ op: "add", path: "setups", value: fresh }], "add setup"))) view.set({ setup: fresh.id });
  };
  return (
    <>
      <Group mb={10} gap={8}>
        {job.doc.setups.length > 1 && (
          <SegmentedControl
            size="xs"
            value={view.setup}
            onChange={(v) => view.set({ setup: v })}
            data={job.doc.setups.map((s) => ({ value: s.id, label: s.name || s.id }))}
          />
        )}
        <Button size="xs" variant={setup ? "default" : "filled"} onClick={add} disabled={!job.doc.part}>
          Add a setup
        </Button>
      </Group>
      {!job.doc.part && <Text className="faint">Bring in a model first; a setup holds it.</Text>}
      {setup && <SetupForm key={setup.id} setup={setup} />}
    </>
  );
}
