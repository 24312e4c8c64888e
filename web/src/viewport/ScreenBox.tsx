import { useThree } from "@react-three/fiber";
import { useEffect } from "react";
import { Vector3 } from "three";
import type { Block } from "../api/client";
import { edgeStarts, type Taken } from "./taking";

/** Draws a box on the screen; takes the faces (or edges) that lie wholly inside it. */
export function ScreenBox({ block, edges, onDone }: { block: Block; edges: boolean; onDone: (taken: Taken) => void }) {
  const { camera, gl } = useThree();
  useEffect(() => {
    const el = gl.domElement,
      frame = document.createElement("div");
    frame.style.cssText =
      "position:absolute;border:1px dashed #1f7a6d;background:rgb(31 122 109 / 12%);pointer-events:none;z-index:4";
    let from: [number, number] | null = null;
    const at = (e: PointerEvent): [number, number] => {
      const r = el.getBoundingClientRect();
      return [e.clientX - r.left, e.clientY - r.top];
    };
    const down = (e: PointerEvent) => {
      e.stopImmediatePropagation();
      e.preventDefault();
      from = at(e);
      el.parentElement!.appendChild(frame);
    };
    const move = (e: PointerEvent) => {
      if (!from) return;
      e.stopImmediatePropagation();
      const [x, y] = at(e);
      Object.assign(frame.style, {
        left: `${Math.min(x, from[0])}px`,
        top: `${Math.min(y, from[1])}px`,
        width: `${Math.abs(x - from[0])}px`,
        height: `${Math.abs(y - from[1])}px`,
      });
    };
    const up = (e: PointerEvent) => {
      if (!from) return;
      e.stopImmediatePropagation();
      const [x, y] = at(e),
        low = [Math.min(x, from[0]), Math.min(y, from[1])],
        high = [Math.max(x, from[0]), Math.max(y, from[1])];
      from = null;
      frame.remove();
      onDone(inside(block, edges, low, high));
    };
    const inside = (b: Block, wantEdges: boolean, low: number[], high: number[]): Taken => {
      const v = new Vector3(),
        ok = (p: Float32Array, i: number) => {
          v.set(p[3 * i], p[3 * i + 1], p[3 * i + 2]).project(camera);
          const x = ((v.x + 1) / 2) * el.clientWidth,
            y = ((1 - v.y) / 2) * el.clientHeight;
          return x >= low[0] && x <= high[0] && y >= low[1] && y <= high[1];
        };
      if (wantEdges) {
        const starts = edgeStarts(b),
          found: number[] = [];
        for (let e = 0; e + 1 < starts.length; e++) {
          let all = starts[e + 1] > starts[e];
          for (let i = starts[e]; all && i < starts[e + 1]; i++) all = ok(b.edge_points, i);
          if (all) found.push(e);
        }
        return { faces: [], edges: found };
      }
      const good = new Map<number, boolean>(),
        ids = b.face_ids as Uint32Array,
        corners = b.triangles as Uint32Array;
      for (let t = 0; t < ids.length; t++)
        if (good.get(ids[t]) !== false)
          good.set(
            ids[t],
            ok(b.vertices, corners[3 * t]) && ok(b.vertices, corners[3 * t + 1]) && ok(b.vertices, corners[3 * t + 2]),
          );
      return { faces: [...good].filter(([, g]) => g).map(([f]) => f), edges: [] };
    };
    el.addEventListener("pointerdown", down, true);
    window.addEventListener("pointermove", move, true);
    window.addEventListener("pointerup", up, true);
    return () => {
      el.removeEventListener("pointerdown", down, true);
      window.removeEventListener("pointermove", move, true);
      window.removeEventListener("pointerup", up, true);
      frame.remove();
    };
  }, [block, camera, edges, gl, onDone]);
  return null;
}
