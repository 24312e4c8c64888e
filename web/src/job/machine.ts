/** A setup's machine in motion: where its bodies stand for values of its joints. */
import { Matrix4, Vector3 } from "three";
import type { Block } from "../api/client";
import type { Vec } from "./document";

export type MachineJoint = {
  name: string;
  kind: "linear" | "rotary";
  carries: "tool" | "work";
  direction: Vec;
  origin: Vec;
  low: number | null;
  high: number | null;
  speed: number | null;
  unit: string;
};
export type MachineBody = { name: string; frame: number; first: number; count: number };
export type MachineMeta = {
  name: string;
  cell: boolean;
  joints: MachineJoint[];
  arm: string[];
  home: number[];
  bodies: MachineBody[];
  turn: number[];
  shift: Vec;
};

export const metaOf = (block: Block): MachineMeta => block.meta as never;

/** From the machine, all joints at 0, to part coordinates. */
export function toPart({ turn: t, shift: s }: MachineMeta): Matrix4 {
  return new Matrix4().set(t[0], t[1], t[2], s[0], t[3], t[4], t[5], s[1], t[6], t[7], t[8], s[2], 0, 0, 0, 1);
}

/** What one joint does to all that it carries. */
function moved(joint: MachineJoint, value: number): Matrix4 {
  const along = new Vector3(...joint.direction).normalize();
  if (joint.kind === "linear") return new Matrix4().makeTranslation(along.x * value, along.y * value, along.z * value);
  const [x, y, z] = joint.origin;
  return new Matrix4()
    .makeTranslation(x, y, z)
    .multiply(new Matrix4().makeRotationAxis(along, (value * Math.PI) / 180))
    .multiply(new Matrix4().makeTranslation(-x, -y, -z));
}

/** How all frames stand in the machine, by the number of their joint, and how the work does. */
export function frames(joints: MachineJoint[], values: ArrayLike<number>): { of: Matrix4[]; work: Matrix4 } {
  const of: Matrix4[] = [],
    last = { tool: new Matrix4(), work: new Matrix4() };
  joints.forEach((joint, k) => {
    const value = Number.isFinite(values[k]) ? values[k] : 0;
    last[joint.carries] = last[joint.carries].clone().multiply(moved(joint, value));
    of.push(last[joint.carries]);
  });
  return { of, work: last.work };
}
