import { SegmentedControl, Switch } from "@mantine/core";
import { metaOf } from "../job/machine";
import { getMoving, setMoving, useMoving, type Shown } from "../job/moving";
import { useMachine } from "../job/queries";

/** Whether the machine is seen to move, and each of its bodies whole, ghosted or hidden. */
export function Bodies({ setup }: { setup: string }) {
  const machine = useMachine(setup).data;
  const { bodies, machineMoves } = useMoving();
  const meta = machine && metaOf(machine);
  if (!meta?.bodies.length) return null;
  const put = (name: string, shown: Shown) => setMoving({ bodies: { ...getMoving().bodies, [name]: shown } });
  return (
    <fieldset>
      <legend>Machine</legend>
      <Switch
        size="xs"
        mb={8}
        label="The machine moves"
        description={machineMoves ? "as it stands in the shop" : "the part stays still, the machine goes round it"}
        checked={machineMoves}
        onChange={(e) => setMoving({ machineMoves: e.currentTarget.checked })}
      />
      <details>
        <summary>Bodies</summary>
        {meta.bodies.map((b) => (
          <div key={b.name} className="body-row">
            <span>{b.name}</span>
            <SegmentedControl
              size="xs"
              aria-label={b.name}
              value={bodies[b.name] ?? (meta.cell ? "whole" : "ghosted")}
              onChange={(v) => put(b.name, v as Shown)}
              data={["whole", "ghosted", "hidden"]}
            />
          </div>
        ))}
      </details>
    </fieldset>
  );
}
