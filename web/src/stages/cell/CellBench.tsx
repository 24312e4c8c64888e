import { Button, Group, Slider, Text } from "@mantine/core";
import type { Operation } from "../../job/document";
import { metaOf, type MachineJoint } from "../../job/machine";
import { getMoving, setMoving, useMoving } from "../../job/moving";
import { useArmWay, useMachine } from "../../job/queries";
import { useArmRow } from "../../job/useArmRow";
import { useJob } from "../../job/useJob";
import { useValues } from "../../job/useValues";
import { useView } from "../../job/view";
import { RangeEnd } from "./RangeEnd";

const NEAR = 0.1;
const plain = (v: number | null) => (v === null ? "–" : String(v).replace("-", "−"));

/** The joints as a table, with their ends and the value of the moment; each can be moved by hand. */
export function CellBench() {
  const view = useView();
  const { doc } = useJob();
  const row = useArmRow();
  const machine = useMachine(view.setup).data;
  const values = useValues(view.setup, row?.number ?? -1);
  if (!machine || !values || !doc.cells.some((c) => c.name === metaOf(machine).name))
    return (
      <Text className="faint" p={12}>
        The joints appear when the machine of this setup is a cell.
      </Text>
    );
  const meta = metaOf(machine);
  const put = (k: number, value: number) => {
    const now = [...(getMoving().joints ?? values)];
    now[k] = value;
    setMoving({ joints: now });
  };
  return (
    <>
      <Scrubber number={row?.number ?? -1} home={meta.home} />
      <table className="dense joints" data-testid="joints">
        <thead>
          <tr>
            <th>Joint</th>
            <th className="n">Lowest</th>
            <th>Between its ends</th>
            <th className="n">Highest</th>
            <th className="n">Value</th>
          </tr>
        </thead>
        <tbody>
          {meta.joints.map((joint, k) => (
            <JointRow key={joint.name} row={row} joint={joint} value={values[k]} onMove={(v) => put(k, v)} />
          ))}
        </tbody>
      </table>
    </>
  );
}

type JointProps = {
  row: Operation | undefined;
  joint: MachineJoint;
  value: number;
  onMove: (value: number) => void;
};

function JointRow({ row, joint, value, onMove }: JointProps) {
  const low = joint.low ?? Math.min(-180, value),
    high = joint.high ?? Math.max(180, value);
  const ended = joint.low !== null && joint.high !== null;
  const room = ended ? Math.min(value - low, high - value) / (0.5 * (high - low)) : 1;
  const state = room < 0 ? "beyond" : room < NEAR ? "near" : "";
  const words = { beyond: "✕ beyond its end", near: "△ near its end", "": "" }[state];
  return (
    <tr className={state}>
      <td>
        {joint.name} <span className="faint">{words}</span>
      </td>
      <td className="n">{row ? <RangeEnd row={row} joint={joint} end="low" /> : plain(joint.low)}</td>
      <td className="slide">
        <Slider
          size="sm"
          min={low}
          max={high}
          step={joint.unit === "deg" ? 0.1 : 1}
          label={null}
          thumbLabel={joint.name}
          value={Math.round(100 * Math.max(low, Math.min(high, value))) / 100}
          onChange={onMove}
          color={state ? "yellow" : undefined}
        />
      </td>
      <td className="n">{row ? <RangeEnd row={row} joint={joint} end="high" /> : plain(joint.high)}</td>
      <td className="n" data-testid={`joint ${joint.name}`}>
        {value.toFixed(2).replace("-", "−")} {joint.unit === "deg" ? "°" : "mm"}
      </td>
    </tr>
  );
}

/** Where along the way the arm is looked at; back to it after joints were moved by hand. */
function Scrubber({ number, home }: { number: number; home: number[] }) {
  const way = useArmWay(number).data;
  const { row, joints } = useMoving();
  const n = way ? way.leap.length : 0;
  return (
    <Group gap={8} px={10} py={6} wrap="nowrap">
      <div style={{ flex: 1 }}>
        <Slider
          size="sm"
          min={0}
          max={Math.max(n - 1, 1)}
          disabled={!n}
          label={null}
          thumbLabel="Row of the way"
          value={Math.min(row, Math.max(n - 1, 0))}
          onChange={(v) => setMoving({ row: v, joints: null })}
        />
      </div>
      <Text size="xs" w={150}>
        {joints ? "moved by hand" : n ? `row ${Math.min(row, n - 1) + 1} of ${n}` : "no way yet"}
      </Text>
      <Button size="compact-xs" variant="default" disabled={!joints} onClick={() => setMoving({ joints: null })}>
        Back to the way
      </Button>
      <Button size="compact-xs" variant="default" onClick={() => setMoving({ joints: home })}>
        Home
      </Button>
    </Group>
  );
}
