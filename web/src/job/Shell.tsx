import { Button, Loader } from "@mantine/core";
import { lazy, useEffect } from "react";
import { Link } from "wouter";
import { useSchema } from "../forms/SchemaForm";
import { Bench } from "./Bench";
import { Commands } from "./Commands";
import { Panel } from "./Panel";
import { Rail } from "./Rail";
import { STAGES } from "./stages";
import { TopBar } from "./TopBar";
import { useAddress } from "./useAddress";
import { useBring } from "./useBring";
import { ActsContext, JobContext, StandingContext, useJob, useJobApi, useStanding } from "./useJob";
import { ViewContext } from "./view";

const Viewport = lazy(() => import("../viewport/Viewport").then((m) => ({ default: m.Viewport })));

/** The whole screen of an open job. */
export function Shell({ id, stage }: { id: string; stage: string }) {
  const { job, acts, standing, error } = useJobApi(id);
  const schema = useSchema();
  const wrong = error ?? schema.error;
  if (wrong)
    return (
      <main style={{ padding: 40 }}>
        <p className="fault" role="alert">
          {wrong.message}
        </p>
        <Link href="/">All jobs</Link>
      </main>
    );
  if (!job || !schema.data)
    return (
      <main style={{ padding: 40 }}>
        <Loader />
      </main>
    );
  return (
    <JobContext value={job}>
      <ActsContext value={acts}>
        <StandingContext value={standing}>
          <Open stage={stage} />
        </StandingContext>
      </ActsContext>
    </JobContext>
  );
}

/** View, sheet and bench of a stage. */
function Open({ stage }: { stage: string }) {
  const { doc, setNote } = useJob();
  const { status, note } = useStanding();
  const view = useAddress(stage, doc.setups[0]?.id ?? "", doc.tools[0]?.number ?? null);
  const bring = useBring(view);
  const { title, Sheet, Bench: Listing, lists } = STAGES.find((s) => s.id === stage) ?? STAGES[0];
  useEffect(() => {
    document.title = `${doc.name} · ${title} · Fenrik`;
  }, [doc.name, title]);
  return (
    <ViewContext value={view}>
      <Commands />
      <div className="shell">
        <TopBar />
        {note && (
          <div className={`note${note.ok ? " ok" : ""}`} role="alert">
            <span style={{ flex: 1 }}>{note.text}</span>
            <Button size="compact-xs" variant="default" onClick={() => setNote(null)}>
              Understood
            </Button>
          </div>
        )}
        <Rail stage={stage} />
        <Panel name="view" key="view">
          <Viewport onFile={bring} />
        </Panel>
        <aside className="sheet" aria-label={`${title} sheet`}>
          {status?.missing
            .filter((m) => m.stage === stage)
            .map((m) => (
              <p key={m.message} className="todo">
                △ {m.message}
              </p>
            ))}
          <Panel name={`${title} sheet`} key={stage}>
            <Sheet onFile={bring} />
          </Panel>
        </aside>
        {lists(doc) ? (
          <Bench>
            <Panel name={`${title} bench`} key={stage}>
              <Listing />
            </Panel>
          </Bench>
        ) : (
          <div style={{ gridArea: "bench" }} />
        )}
      </div>
    </ViewContext>
  );
}
