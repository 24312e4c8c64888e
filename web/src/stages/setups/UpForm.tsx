import { Button, Group, Menu, Select, Switch } from "@mantine/core";
import { useEffect, useState } from "react";
import { NumberField } from "../../forms/NumberField";
import type { Setup, Vec } from "../../job/document";
import { eyeDirection, pick, type Purpose, useClicks, usePicks } from "../../job/picking";
import { useFeatures, usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { referencesTo } from "../part/references";
import type { Put } from "./fields";

/** Which way is up: axes, faces, edges, points, holes, the view; flips and turns. */
export function UpForm({ setup, cameFrom, put }: { setup: Setup; cameFrom: string; put: Put }) {
  const job = useJob();
  const picks = usePicks();
  const part = usePart().data;
  const features = useFeatures().data;
  const [points, setPoints] = useState<Vec[]>([]);
  useEffect(() => {
    if (!part || (!picks.faces.length && !picks.edges.length)) return;
    const purpose = picks.purpose,
      done = () => pick({ purpose: "", faces: [], edges: [] });
    const face = part.faces[picks.faces[picks.faces.length - 1]],
      edge = picks.edges[picks.edges.length - 1];
    if (purpose === "up" && face) {
      done();
      if (!["plane", "cylinder", "cone", "torus"].includes(face.kind))
        return job.setNote("That face has no direction. Pick a flat or round face.");
      put("up", { kind: "face", face: face.reference }, setup.up, "up");
    }
    if (purpose === "up hole" && picks.faces.length) {
      const hole = features?.holes?.find((h) => h.faces.includes(picks.faces[0]));
      done();
      if (!hole) return job.setNote("There is no hole there. Click inside one.");
      put(
        "up",
        { kind: "direction", direction: hole.direction, came_from: `along the axis of ${hole.name}` },
        setup.up,
        "up",
      );
    }
    if ((purpose === "up edge" || purpose === "x along") && edge !== undefined) {
      done();
      referencesTo(job.id, [], [edge]).then(([reference]) =>
        purpose === "up edge"
          ? put("up", { kind: "edge", edge: reference }, setup.up, "up")
          : put("x_along", reference, setup.x_along, "x along"),
      );
    }
  });
  useClicks(({ point }) => {
    if (picks.purpose !== "up points") return;
    const next = [...points, point];
    setPoints(next.length === 3 ? [] : next);
    if (next.length === 3) {
      pick({ purpose: "" });
      put("up", { kind: "points", points: next }, setup.up, "up");
    }
  });
  const fromView = () =>
    put("up", { kind: "direction", direction: eyeDirection(), came_from: "towards the eye" }, setup.up, "up");
  const start = (purpose: Purpose) => () => pick({ purpose, faces: [], edges: [] });
  const up = setup.up;
  return (
    <fieldset>
      <legend>
        Up:{" "}
        <span className="faint" data-testid="came-from">
          {cameFrom}
        </span>
      </legend>
      <div className="two">
        <Select
          size="xs"
          label="Direction"
          allowDeselect={false}
          value={up.kind === "axis" ? up.axis : "picked"}
          data={[
            ...["+z", "-z", "+x", "-x", "+y", "-y"].map((a) => ({
              value: a,
              label: `${a.toUpperCase().replace("-", "−")} of the part`,
            })),
            ...(up.kind !== "axis"
              ? [
                  {
                    value: "picked",
                    label:
                      up.kind === "face"
                        ? "A picked face"
                        : up.kind === "edge"
                          ? "A picked edge"
                          : up.kind === "points"
                            ? "Three points"
                            : "A direction",
                  },
                ]
              : []),
          ]}
          onChange={(a) => a && a !== "picked" && put("up", { kind: "axis", axis: a }, up, "up")}
        />
        <NumberField
          label="Turn about Z"
          unit="deg"
          value={setup.spin_deg}
          range={{ min: -360, max: 360 }}
          onCommit={(v) => put("spin_deg", v, setup.spin_deg, "turn")}
        />
      </div>
      <Group gap={6} mt={8}>
        <Button size="compact-xs" variant="default" onClick={start("up")}>
          Pick the face that looks up
        </Button>
        <Menu>
          <Menu.Target>
            <Button size="compact-xs" variant="default">
              Other picks
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={start("up edge")}>An edge points up</Menu.Item>
            <Menu.Item onClick={start("up hole")}>A hole's axis points up</Menu.Item>
            <Menu.Item
              onClick={() => {
                setPoints([]);
                start("up points")();
              }}
            >
              Three points lie level
            </Menu.Item>
            <Menu.Item onClick={fromView}>Up is towards the eye</Menu.Item>
            <Menu.Item onClick={start("x along")}>X runs along an edge</Menu.Item>
            {setup.x_along && (
              <Menu.Item onClick={() => put("x_along", null, setup.x_along, "x along")}>X as it falls</Menu.Item>
            )}
          </Menu.Dropdown>
        </Menu>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => put("spin_deg", ((setup.spin_deg + 90 + 180) % 360) - 180, setup.spin_deg, "turn")}
        >
          Turn 90°
        </Button>
        <Switch
          size="xs"
          label="Upside down"
          checked={setup.flip}
          onChange={(e) => put("flip", e.currentTarget.checked, setup.flip, "upside down")}
        />
      </Group>
    </fieldset>
  );
}
