import { useMemo } from "react";
import type { Block } from "../api/client";
import { metaOf } from "./machine";
import { useMoment } from "./moment";
import { useMoving } from "./moving";
import { useArmWay, useColumns, useMachine } from "./queries";

/** The values of a row of a table of them. */
export function valuesAt(table: ArrayLike<number>, count: number, row: number): number[] {
  return Array.from({ length: count }, (_, k) => table[count * row + k]);
}

/** Values of a machine's own joints: put by hand, at the row of the arm's way that is looked at, or at the proof's moment. */
export function useValues(setup: string, row: number | null): number[] | null {
  const machine = useMachine(setup).data;
  const columns = useColumns(setup).data;
  const way = useArmWay(row).data;
  const { joints, row: at } = useMoving();
  const moment = useMoment();
  return useMemo(() => {
    if (!machine) return null;
    const count = metaOf(machine).joints.length;
    if (row !== null) {
      if (joints?.length === count) return joints;
      const n = way ? (way.leap as Uint8Array).length : 0;
      return way && n ? valuesAt(way.joints, count, Math.min(at, n - 1)) : metaOf(machine).home;
    }
    const n = (columns as Block | undefined)?.line.length ?? 0;
    return columns && n ? valuesAt(columns.own, count, Math.max(0, Math.min(moment, n) - 1)) : metaOf(machine).home;
  }, [machine, columns, way, joints, at, moment, row]);
}
