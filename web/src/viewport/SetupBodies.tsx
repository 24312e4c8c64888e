import { giveClick, usePicks } from "../job/picking";
import { useScene } from "../job/queries";
import { useJob } from "../job/useJob";
import { useView } from "../job/view";
import { FirstStock, FixtureBody, Table } from "./Extras";
import { SetupMarks } from "./SetupMarks";

const TABLE_MM: [number, number] = [700, 450];

/** A setup as it is clamped: its stock, zero, fixtures and table. */
export function SetupBodies() {
  const { doc } = useJob();
  const view = useView();
  const picks = usePicks();
  const scene = useScene(view.setup).data;
  const setup = doc.setups.find((s) => s.id === view.setup);
  const machine = doc.machines.find((m) => m.name === setup?.machine);
  if (!scene || !setup) return null;
  return (
    <>
      <FirstStock setup={view.setup} />
      <SetupMarks scene={scene} />
      {setup.fixtures.map((f) => (
        <FixtureBody
          key={f.id}
          setup={view.setup}
          id={f.id}
          picked={[]}
          onPick={picks.purpose === "seat" && view.fixture === f.id ? (h) => giveClick({ ...h, on: f.id }) : undefined}
        />
      ))}
      {setup.machine && <Table scene={scene} size={machine?.table_mm ?? TABLE_MM} />}
    </>
  );
}
