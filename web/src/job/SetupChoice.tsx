import { SegmentedControl } from "@mantine/core";
import { useJob } from "./useJob";
import { useView } from "./view";

/** Which setup is looked at, where there are several; another one is seen from its beginning. */
export function SetupChoice() {
  const { doc } = useJob();
  const view = useView();
  if (doc.setups.length < 2) return null;
  return (
    <SegmentedControl
      size="xs"
      mb={10}
      aria-label="Setup"
      value={view.setup}
      onChange={(setup) => view.set({ setup, motion: 0 })}
      data={doc.setups.map((s) => ({ value: s.id, label: s.name || s.id }))}
    />
  );
}
