import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useRef } from "react";
import { Box3, OrthographicCamera, Vector3 } from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { keepEye } from "../job/picking";
import { useSpot } from "../job/spot";
import { hold, move } from "./motion";

/** Half of what the view shows of the surroundings of a place that it is taken to. */
const SPOT_MM = 20;

export const DIRECTIONS: Record<string, [number, number, number]> = {
  iso: [-0.75, -1.1, 0.85],
  top: [0, -0.0001, 1],
  front: [0, -1, 0.0001],
  right: [1, 0, 0.0001],
};

/** Turning, moving and zooming, and fitting to what is shown; upwards is the frame's z. Draws only when something changes. */
export function Camera({
  box,
  look,
  turn,
}: {
  box: Box3 | null;
  look: { name: string; count: number };
  turn: number[][] | null;
}) {
  const { camera, gl, size, invalidate, set } = useThree();
  const controls = useRef<OrbitControls | null>(null);
  const frame = turn
    ? turn
        .flat()
        .map((v) => Math.round(v * 1e6) / 1e6)
        .join()
    : "";
  const along = (v: [number, number, number]) =>
    turn
      ? new Vector3(...(turn.map((row) => row[0] * v[0] + row[1] * v[1] + row[2] * v[2]) as [number, number, number]))
      : new Vector3(...v);
  useEffect(() => {
    camera.up.copy(along([0, 0, 1]));
    const c = new OrbitControls(camera, gl.domElement);
    const tell = () => keepEye(camera.getWorldDirection(new Vector3()).negate().toArray());
    c.addEventListener("change", () => {
      move();
      invalidate();
      tell();
    });
    c.addEventListener("start", () => hold(true));
    c.addEventListener("end", () => hold(false));
    controls.current = c;
    set({ controls: c }); // for what is dragged in the scene, which stops the turning meanwhile
    return () => {
      hold(false);
      c.dispose();
    };
  }, [camera, gl, invalidate, frame, set]);
  const key = box ? [...box.min.toArray(), ...box.max.toArray()].join() : "";
  useEffect(() => {
    if (!box || box.isEmpty() || !controls.current) return;
    const centre = box.getCenter(new Vector3());
    const radius = Math.max(box.getSize(new Vector3()).length() / 2, 1e-3);
    const direction = along(DIRECTIONS[look.name]).normalize();
    const c = camera as OrthographicCamera;
    c.position.copy(centre).addScaledVector(direction, radius * 6);
    c.near = radius * 0.05;
    c.far = radius * 14;
    c.zoom = Math.min(size.width, size.height) / (radius * 2.05);
    c.updateProjectionMatrix();
    controls.current.target.copy(centre);
    controls.current.update();
    invalidate();
    // Fit anew when the thing shown or the wish changes, not on every resize.
  }, [key, look.name, look.count, camera, invalidate, frame]);
  const spot = useSpot();
  useEffect(() => {
    if (!spot || !controls.current) return;
    const c = camera as OrthographicCamera,
      to = new Vector3(...spot);
    c.position.add(to.clone().sub(controls.current.target));
    controls.current.target.copy(to);
    const half = Math.min(size.width, size.height) / 2;
    c.zoom = Math.max(c.zoom, half / SPOT_MM);
    c.updateProjectionMatrix();
    controls.current.update();
    invalidate();
  }, [spot, camera, invalidate]);
  useFrame(() => undefined);
  return null;
}
