/** What is to be fitted into the view: the part, and with it the copies and what holds them. */
import { useMemo } from "react";
import { Box3, Vector3 } from "three";
import type { Block } from "../api/client";
import type { Vec } from "../job/document";
import { frames, metaOf, toPart } from "../job/machine";
import { useGeometry, useMachine, useScene } from "../job/queries";

export function useBounds(stage: string, setup: string): Box3 | null {
  const geometry = useGeometry();
  const scene = useScene(setup);
  const box = useMemo(() => {
    if (!geometry.data) return null;
    const b = new Box3(),
      p = new Vector3();
    const v = geometry.data.vertices as Float32Array;
    for (let i = 0; i < v.length; i += 3) b.expandByPoint(p.set(v[i], v[i + 1], v[i + 2]));
    return b;
  }, [geometry.data]);
  const machine = useMachine(stage === "cell" ? setup : "").data;
  return useMemo(() => {
    const s = scene.data;
    if (stage === "cell" && machine) return boundsOfMachine(machine, box);
    if (!box || !s || stage === "part" || stage === "tools") return box;
    const b = box.clone();
    for (const c of s.copies)
      b.union(
        new Box3().setFromPoints(
          [box.min, box.max].map(
            (p) =>
              new Vector3(...(c.turn.map((row, i) => row[0] * p.x + row[1] * p.y + row[2] * p.z + c.shift[i]) as Vec)),
          ),
        ),
      );
    if (stage !== "route")
      for (const f of s.fixtures)
        for (const corner of [f.low, f.high])
          b.expandByPoint(
            new Vector3(...(s.rotation.map((row) => row.reduce((sum, v, c) => sum + v * corner[c], 0)) as Vec)),
          );
    return b;
  }, [box, scene.data, stage, machine]);
}

/** The box of what moves in a cell, as it stands at home, and of the work; floors and the like lie about it. */
function boundsOfMachine(machine: Block, work: Box3 | null): Box3 {
  const meta = metaOf(machine),
    corners = machine.corners as Float32Array,
    stand = frames(meta.joints, meta.home),
    base = toPart(meta).multiply(stand.work.clone().invert()),
    b = work?.clone() ?? new Box3(),
    p = new Vector3();
  for (const body of meta.bodies) {
    if (body.frame < 0) continue;
    const matrix = base.clone().multiply(stand.of[body.frame]);
    for (let i = 3 * body.first; i < 3 * (body.first + body.count); i += 3)
      b.expandByPoint(p.set(corners[i], corners[i + 1], corners[i + 2]).applyMatrix4(matrix));
  }
  return b;
}
