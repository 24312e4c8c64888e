import { isBody } from "../../forms/PickFile";
import { Button, Group, Menu, Text } from "@mantine/core";
import { useState } from "react";
import { api, take } from "../../api/client";
import { SchemaForm, useKinds, useModelSchema } from "../../forms/SchemaForm";
import { freshId, type Setup } from "../../job/document";
import { PART, pick, useClicks, usePicks } from "../../job/picking";
import { usePart, useScene } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";

/** Kinds that are made of something else: they are offered by its name. */
const MADE_OF = ["body", "file"];

/** What holds the part: added from a list, placed by numbers or by picking two faces. */
export function FixtureForms({ setup }: { setup: Setup }) {
  const job = useJob();
  const view = useView();
  const picks = usePicks();
  const scene = useScene(setup.id).data;
  const kinds = useKinds("Setup", "fixtures");
  const plain = Object.keys(kinds).filter((k) => !MADE_OF.includes(k));
  const place = useModelSchema("Place");
  const part = usePart().data;
  const at = `setups/${setup.id}/fixtures`;
  const [seat, setSeat] = useState<{ face: number } | null>(null);
  const others = ((part?.summary.bodies ?? []) as { name: string }[])
    .filter((_, k) => part?.roles[k] === "fixture")
    .map((b) => b.name);
  const add = (kind: string, more: Record<string, unknown> = {}) => {
    const id = freshId(
      kind,
      setup.fixtures.map((f) => f.id),
    );
    return job.edit(
      [{ op: "add", path: at, value: { kind, id, name: kind[0].toUpperCase() + kind.slice(1), ...more } }],
      `add ${kind}`,
    );
  };
  useClicks(({ on, face }) => {
    if (picks.purpose !== "seat") return;
    if (on === view.fixture) return setSeat({ face });
    if (!seat) return job.setNote("Click a face of the fixture first, then the face it shall lie on.");
    pick({ purpose: "" });
    setSeat(null);
    void job.run(() =>
      take(
        api.POST("/api/jobs/{job_id}/setups/{setup_id}/fixtures/{fixture_id}/seat", {
          params: { path: { job_id: job.id, setup_id: setup.id, fixture_id: view.fixture } },
          body: {
            face: seat.face,
            on: on === PART ? "part" : "fixture",
            fixture: on === PART ? "" : on,
            target_face: face,
          },
        }),
      ),
    );
  });
  const close = (id: string) =>
    job.run(() =>
      take(
        api.POST("/api/jobs/{job_id}/setups/{setup_id}/fixtures/{fixture_id}/close-gap", {
          params: { path: { job_id: job.id, setup_id: setup.id, fixture_id: id } },
        }),
      ),
    );
  return (
    <fieldset>
      <legend>Held by</legend>
      {setup.fixtures.map((f) => {
        const gap = scene?.fixtures.find((s) => s.id === f.id)?.gap_to_table_mm ?? 0;
        const put = (field: string, value: unknown, was: unknown) =>
          job.edit([{ path: `${at}/${f.id}/${field}`, value, was }], f.name || f.kind);
        return (
          <details key={f.id} className="fixture">
            <summary onClick={() => view.set({ fixture: f.id })}>
              {f.name || f.kind}{" "}
              <span className="faint">
                {f.kind}
                {Math.abs(gap) > 1e-3
                  ? ` · ${Math.abs(gap).toFixed(2)} mm ${gap > 0 ? "above" : "into"} the table`
                  : " · on the table"}
              </span>
            </summary>
            <SchemaForm schema={kinds[f.kind]} value={f} skip={["id", "kind", "place"]} onChange={put} />
            {f.kind !== "body" && (
              <>
                <Text mt={6} mb={2} className="faint">
                  Place, from the middle of the stock's underside
                </Text>
                <SchemaForm
                  schema={place}
                  value={f.place}
                  onChange={(field, value, was) => put(`place/${field}`, value, was)}
                />
              </>
            )}
            <Group gap={6} my={8}>
              {f.kind !== "body" && (
                <Button
                  size="compact-xs"
                  variant={picks.purpose === "seat" && view.fixture === f.id ? "filled" : "default"}
                  onClick={() => {
                    setSeat(null);
                    view.set({ fixture: f.id });
                    pick({ purpose: "seat", faces: [], edges: [] });
                  }}
                >
                  Seat by picking
                </Button>
              )}
              {f.kind !== "body" && (
                <Button size="compact-xs" variant="default" disabled={Math.abs(gap) < 1e-3} onClick={() => close(f.id)}>
                  Close the gap
                </Button>
              )}
              <Button
                size="compact-xs"
                variant="default"
                aria-label={`Remove ${f.name || f.kind}`}
                onClick={() => job.edit([{ op: "remove", path: `${at}/${f.id}` }], "remove fixture")}
              >
                Remove
              </Button>
            </Group>
            {picks.purpose === "seat" && view.fixture === f.id && (
              <Text className="faint" mb={6}>
                {seat ? "Now the face that it shall lie on." : "Click a face of the fixture."}
              </Text>
            )}
          </details>
        );
      })}
      <Menu>
        <Menu.Target>
          <Button size="compact-xs" variant="default">
            Add a fixture
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {plain.map((k) => (
            <Menu.Item key={k} onClick={() => add(k)}>
              {k}
            </Menu.Item>
          ))}
          {others.map((b) => (
            <Menu.Item key={b} onClick={() => add("body", { body: b, name: b })}>
              body {b}
            </Menu.Item>
          ))}
          {job.doc.files.filter(isBody).map((n) => (
            <Menu.Item key={n} onClick={() => add("file", { file: n, name: n })}>
              file {n}
            </Menu.Item>
          ))}
        </Menu.Dropdown>
      </Menu>
    </fieldset>
  );
}
