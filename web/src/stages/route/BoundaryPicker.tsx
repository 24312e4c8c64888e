import { Button, Group } from "@mantine/core";
import type { FaceSelector } from "../../job/document";
import { usePicks } from "../../job/picking";
import { usePart } from "../../job/queries";

export function BoundaryPicker({ onDone }: { onDone: (faces: FaceSelector[]) => void }) {
  const picks = usePicks();
  const part = usePart();
  return (
    <Group mt={8} justify="space-between">
      <span>{picks.faces.length} faces picked</span>
      <Button
        size="compact-sm"
        disabled={!picks.faces.length || !part.data}
        onClick={() => onDone(picks.faces.map((k) => part.data!.faces[k].reference))}
      >
        Use these faces
      </Button>
    </Group>
  );
}
