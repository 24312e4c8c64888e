import { Anchor, Button, Group, Select, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { usePrograms } from "../../job/queries";
import { SetupChoice } from "../../job/SetupChoice";
import { useJob, useStanding } from "../../job/useJob";
import { useView } from "../../job/view";
import { clock } from "../../theme";

/** Choose the controller, look at times, seal a release, print the setup sheet. */
export function ReleaseSheet() {
  const job = useJob();
  const { status } = useStanding();
  const view = useView();
  const path = { params: { path: { job_id: job.id } } };
  const dialects = useQuery({
    queryKey: ["dialects"],
    queryFn: () => take(api.GET("/api/dialects")),
    staleTime: Infinity,
  });
  const releases = useQuery({
    queryKey: ["releases", job.id],
    queryFn: () => take(api.GET("/api/jobs/{job_id}/releases", path)),
  });
  const setup = job.doc.setups.find((s) => s.id === view.setup);
  const state = status?.setups.find((s) => s.id === view.setup);
  const programs = usePrograms(view.setup);
  const release = async () => {
    try {
      job.setNote("Sealing the release …", true);
      await take(api.POST("/api/jobs/{job_id}/releases", path));
      job.setNote(null);
      releases.refetch();
    } catch (e) {
      job.setNote((e as Error).message);
    }
  };
  const save = (name: string, text: string) => {
    const a = document.createElement("a");
    a.href = URL.createObjectURL(new Blob([text], { type: "text/plain" }));
    a.download = name;
    a.click();
    URL.revokeObjectURL(a.href);
  };
  const all = status?.setups.filter((s) => job.doc.operations.some((o) => o.setup === s.id && o.enabled)) ?? [];
  const ready = all.length > 0 && all.every((s) => s.proof === "ready");
  return (
    <>
      <SetupChoice />
      {setup && (
        <fieldset>
          <legend>Program</legend>
          <Select
            size="xs"
            label="Controller"
            allowDeselect={false}
            value={setup.dialect}
            data={(dialects.data ?? []).map((d) => d.name)}
            description={dialects.data?.find((d) => d.name === setup.dialect)?.description}
            onChange={(v) =>
              job.edit([{ path: `setups/${setup.id}/dialect`, value: v, was: setup.dialect }], "controller")
            }
          />
          {state?.proof !== "ready" && (
            <>
              <Text my={8}>The program is out of date.</Text>
              <Button size="xs" onClick={() => job.compute(view.setup)}>
                Compute and prove
              </Button>
            </>
          )}
          {programs.data?.map((p) => (
            <Group key={p.name} justify="space-between" wrap="nowrap" mt={8}>
              <Text truncate>
                {p.name} <span className="faint">{p.lines} lines</span>
              </Text>
              <Button size="compact-xs" variant="default" onClick={() => save(p.name, p.text)}>
                Save
              </Button>
            </Group>
          ))}
        </fieldset>
      )}
      <fieldset>
        <legend>Times</legend>
        <dl className="facts">
          {status?.operations.map((o) => (
            <div key={o.number} style={{ display: "contents" }}>
              <dt>
                {o.number} {job.doc.operations.find((x) => x.number === o.number)?.name}
              </dt>
              <dd>{clock(o.time_s)}</dd>
            </div>
          ))}
          {status?.setups.map((s) => (
            <div key={s.id} style={{ display: "contents" }}>
              <dt>
                <b>{job.doc.setups.find((x) => x.id === s.id)?.name || s.id}</b>
              </dt>
              <dd>
                <b>{clock(s.time_s)}</b>
              </dd>
            </div>
          ))}
        </dl>
      </fieldset>
      <fieldset>
        <legend>For the shop</legend>
        <Group gap={8}>
          <Button size="xs" disabled={!ready} onClick={release}>
            Seal a release
          </Button>
          {ready ? (
            <Button size="xs" variant="default" component="a" href={`/api/jobs/${job.id}/setup-sheet`} target="_blank">
              Setup sheet
            </Button>
          ) : (
            <Button size="xs" variant="default" disabled>
              Setup sheet
            </Button>
          )}
        </Group>
        {releases.data?.map((r) => (
          <details key={r.number} style={{ marginTop: 8 }} open={r.number === releases.data[0].number}>
            <summary>
              Release {r.number} · {new Date(r.made_at).toLocaleString()}
              {r.faults ? <span className="fault"> · {r.faults} faults</span> : ""}
            </summary>
            {r.files.map((f) => (
              <div key={f}>
                <Anchor size="sm" href={`/api/jobs/${job.id}/releases/${r.number}/files/${f}`}>
                  {f}
                </Anchor>
              </div>
            ))}
          </details>
        ))}
      </fieldset>
    </>
  );
}
