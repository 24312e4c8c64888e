import { useThree, type ThreeEvent } from "@react-three/fiber";
import { useEffect, useMemo, useRef, type ReactNode } from "react";
import { BufferAttribute, BufferGeometry, Matrix4, Vector3, type OrthographicCamera } from "three";
import { api, take } from "../api/client";
import { frames, metaOf, toPart } from "../job/machine";
import { getMoving, setMoving, useMoving } from "../job/moving";
import { useMachine } from "../job/queries";
import { useValues } from "../job/useValues";
import { useJob } from "../job/useJob";

const COLOURS = ["#8d959c", "#79848d", "#9aa39d", "#6f7c78", "#a39c8f", "#7f7a86"],
  DEGREES_A_DOT = 0.35;

/** The bodies of a setup's machine where they stand at the moment; those of an arm can be dragged. */
export function MachineBodies({ setup, row }: { setup: string; row: number | null }) {
  const machine = useMachine(setup).data;
  const values = useValues(setup, row);
  const { bodies } = useMoving();
  const { invalidate } = useThree();
  const meta = machine && metaOf(machine);
  const shapes = useMemo(() => {
    if (!machine) return [];
    const corners = machine.corners as Float32Array;
    return metaOf(machine).bodies.map((b) => {
      const geometry = new BufferGeometry().setAttribute(
        "position",
        new BufferAttribute(corners.slice(3 * b.first, 3 * (b.first + b.count)), 3),
      );
      geometry.computeVertexNormals();
      return geometry;
    });
  }, [machine]);
  useEffect(() => () => shapes.forEach((g) => g.dispose()), [shapes]);
  useEffect(() => invalidate(), [values, bodies, shapes, invalidate]);
  const drag = useDragging(setup, row, values);
  if (!meta || !values) return null;
  const stand = frames(meta.joints, values);
  const base = toPart(meta).multiply(stand.work.clone().invert());
  return (
    <>
      {meta.bodies.map((body, k) => {
        const shown = bodies[body.name] ?? (meta.cell ? "whole" : "ghosted");
        if (shown === "hidden") return null;
        const matrix = body.frame < 0 ? base : base.clone().multiply(stand.of[body.frame]);
        return (
          <mesh
            key={body.name + k}
            name={body.name}
            geometry={shapes[k]}
            matrix={matrix}
            matrixAutoUpdate={false}
            onPointerDown={row !== null ? (e) => drag(e, body.frame) : undefined}
          >
            <meshLambertMaterial
              color={COLOURS[(body.frame + 1) % COLOURS.length]}
              transparent={shown === "ghosted"}
              opacity={shown === "ghosted" ? 0.16 : 1}
              depthWrite={shown !== "ghosted"}
            />
          </mesh>
        );
      })}
    </>
  );
}

/** A body of the arm that is dragged turns its joint; one that hangs on the last joint takes the flange along. */
function useDragging(setup: string, row: number | null, values: ArrayLike<number> | null) {
  const { id, setNote } = useJob();
  const machine = useMachine(setup).data;
  const { camera, gl, controls } = useThree();
  const asked = useRef(false);
  return (e: ThreeEvent<PointerEvent>, frame: number) => {
    const meta = machine && metaOf(machine);
    const joint = meta?.joints[frame];
    if (!meta || !joint || !values || !meta.arm.includes(joint.name)) return;
    e.stopPropagation();
    const orbit = controls as unknown as { enabled: boolean } | null;
    if (orbit) orbit.enabled = false;
    const last = meta.arm.indexOf(joint.name) === meta.arm.length - 1;
    const right = new Vector3().setFromMatrixColumn(camera.matrixWorld, 0),
      up = new Vector3().setFromMatrixColumn(camera.matrixWorld, 1);
    let at = [e.nativeEvent.clientX, e.nativeEvent.clientY];
    const move = async (to: PointerEvent) => {
      const now = [...(getMoving().joints ?? Array.from(values))];
      const [dx, dy] = [to.clientX - at[0], to.clientY - at[1]];
      if (!last) {
        at = [to.clientX, to.clientY];
        const wanted = now[frame] + DEGREES_A_DOT * (Math.abs(dx) > Math.abs(dy) ? dx : -dy);
        now[frame] = Math.min(joint.high ?? Infinity, Math.max(joint.low ?? -Infinity, wanted));
        setMoving({ joints: now });
        return;
      }
      if (asked.current || row === null) return;
      asked.current = true;
      at = [to.clientX, to.clientY];
      const scale = 1 / (camera as OrthographicCamera).zoom;
      const by = right
        .clone()
        .multiplyScalar(dx * scale)
        .addScaledVector(up, -dy * scale);
      try {
        const found = await take(
          api.POST("/api/jobs/{job_id}/operations/{number}/standing", {
            params: { path: { job_id: id, number: row } },
            body: { joints: now, move_mm: [by.x, by.y, by.z] },
          }),
        );
        if (found.reached) setMoving({ joints: found.joints });
        else setNote(`The flange does not go there: ${found.why}.`);
      } catch (error) {
        setNote((error as Error).message);
      } finally {
        asked.current = false;
      }
    };
    const end = () => {
      if (orbit) orbit.enabled = true;
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", end);
    };
    gl.domElement.ownerDocument.defaultView!.addEventListener("pointermove", move);
    window.addEventListener("pointerup", end);
  };
}

/** All that stands on the table, moved with it where the machine is seen to move. */
export function MovedWork({
  setup,
  row,
  on,
  children,
}: {
  setup: string;
  row: number | null;
  on: boolean;
  children: ReactNode;
}) {
  const machine = useMachine(setup).data;
  const values = useValues(setup, row);
  const { machineMoves } = useMoving();
  const { invalidate } = useThree();
  const matrix = useMemo(() => {
    if (!machine || !values || !on || !machineMoves) return new Matrix4();
    const meta = metaOf(machine),
      to = toPart(meta);
    return to.clone().multiply(frames(meta.joints, values).work).multiply(to.clone().invert());
  }, [machine, values, on, machineMoves]);
  useEffect(() => invalidate(), [matrix, invalidate]);
  return (
    <group matrix={matrix} matrixAutoUpdate={false}>
      {children}
    </group>
  );
}
