import { Button, Group, Loader, Select, Tooltip } from "@mantine/core";
import { pick, usePicks, type Purpose, type Reach } from "../job/picking";

const REACHES: { value: Reach; label: string }[] = [
  { value: "face", label: "face" },
  { value: "edge", label: "edge" },
  { value: "boundary", label: "boundary of a face" },
  { value: "chain", label: "tangent chain" },
  { value: "smooth", label: "smooth faces" },
  { value: "feature", label: "hole, pocket, feature" },
  { value: "radius", label: "all of this radius" },
  { value: "level", label: "all at this level" },
  { value: "colour", label: "all of this colour" },
  { value: "surface", label: "all of this surface" },
];
const PROMPTS: Record<Exclude<Purpose, "">, string> = {
  up: "Click a flat or round face.",
  "up edge": "Click a straight or round edge.",
  "up points": "Click three places, counter-clockwise seen from above.",
  "up hole": "Click inside a hole.",
  "x along": "Click a straight edge.",
  vertex: "Click a vertex.",
  "hole centre": "Click a hole centre.",
  boundary: "Click a face (Shift for more).",
  measure: "Click one or two faces, edges or places.",
  seat: "Click a face of the fixture, then the face it shall lie on.",
  "sketch edges": "Click edges (Shift for more).",
};

/** What stands over the view: from where to look, how much a click takes, what a click is for. */
export function Overlay({
  picking,
  boxing,
  busy,
  onLook,
  onBox,
}: {
  picking: boolean;
  boxing: boolean;
  busy: boolean;
  onLook: (from: string) => void;
  onBox: () => void;
}) {
  const picks = usePicks();
  return (
    <div className="overlay">
      {(["iso", "top", "front", "right"] as const).map((name) => (
        <Tooltip key={name} label={`Look from ${name === "iso" ? "the corner" : name}`}>
          <Button
            size="compact-xs"
            variant="default"
            aria-label={`Look from ${name === "iso" ? "the corner" : name}`}
            onClick={() => onLook(name)}
          >
            {{ iso: "Corner", top: "Top", front: "Front", right: "Right" }[name]}
          </Button>
        </Tooltip>
      ))}
      {picking && (
        <>
          <Select
            size="xs"
            w={170}
            aria-label="A click takes"
            value={picks.reach}
            data={REACHES}
            allowDeselect={false}
            maxDropdownHeight={340}
            onChange={(v) => pick({ reach: v as Reach })}
          />
          <Tooltip label="Draw a box; everything wholly inside is taken">
            <Button size="compact-sm" variant={boxing ? "filled" : "default"} aria-pressed={boxing} onClick={onBox}>
              Box
            </Button>
          </Tooltip>
        </>
      )}
      {busy && (
        <Group gap={6}>
          <Loader size="xs" />
          <span className="faint">cutting</span>
        </Group>
      )}
      {picks.purpose && (
        <Group gap={6}>
          <span>{PROMPTS[picks.purpose]}</span>
          <Button size="compact-xs" variant="default" onClick={() => pick({ purpose: "" })}>
            Stop picking
          </Button>
        </Group>
      )}
    </div>
  );
}
