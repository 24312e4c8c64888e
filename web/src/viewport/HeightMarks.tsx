import { useThree, type ThreeEvent } from "@react-three/fiber";
import { useEffect, useMemo, useState } from "react";
import { BufferAttribute, BufferGeometry, Vector3, type Object3D, type OrthographicCamera } from "three";
import type { Scene, Schemas } from "../api/client";
import type { Vec } from "../job/document";
import { useHeights } from "../job/queries";
import { useJob } from "../job/useJob";
import { Label } from "./Label";
import { turnOf } from "./SetupMarks";

type Height = Schemas["Height"];
const STEP = 0.1,
  ROOM = 0.06;
const COLOURS: Record<Height["name"], string> = {
  clearance: "#6c7a89",
  retract: "#8a7fb0",
  top: "#1f7a6d",
  bottom: "#8f4a1d",
};
const rounded = (v: number) => Math.round(v / STEP) * STEP;

/** The heights of one operation as frames round the stock; each can be dragged up and down. */
export function HeightMarks({ number, scene }: { number: number; scene: Scene }) {
  const heights = useHeights(number);
  const job = useJob();
  const turn = useMemo(() => turnOf(scene.rotation), [scene]);
  const zero = scene.rotation.reduce((sum, row, i) => sum + row[2] * (scene.origin as Vec)[i], 0);
  const put = (h: Height, level: number) => {
    const number = (v: number) => Math.round(v * 1000) / 1000;
    job.edit(
      [{ path: h.path, value: number(level - h.base_mm), was: number(h.level_mm - h.base_mm) }],
      `${h.name} height`,
    );
  };
  return (
    <group quaternion={turn}>
      {heights.data?.map((h, k) => (
        <Mark key={h.name} height={h} zero={zero} scene={scene} place={k} onDrop={(level) => put(h, level)} />
      ))}
    </group>
  );
}

function Mark({
  height: h,
  zero,
  scene,
  place,
  onDrop,
}: {
  height: Height;
  zero: number;
  scene: Scene;
  place: number;
  onDrop: (level: number) => void;
}) {
  const { camera, gl, controls, invalidate, size } = useThree();
  const [dragged, setDragged] = useState<number | null>(null);
  const level = dragged ?? h.level_mm;
  const [low, high] = [scene.stock_low, scene.stock_high];
  const room = ROOM * Math.max(high[0] - low[0], high[1] - low[1]);
  const frame = useMemo(() => {
    const [x0, y0, x1, y1] = [low[0] - room, low[1] - room, high[0] + room, high[1] + room];
    return new BufferGeometry().setAttribute(
      "position",
      new BufferAttribute(new Float32Array([x0, y0, 0, x1, y0, 0, x1, y1, 0, x0, y1, 0]), 3),
    );
  }, [low, high, room]);
  useEffect(() => () => frame.dispose(), [frame]);
  // The grips stand one beside the other along the near edge, so that none hides another.
  const grip: Vec = [low[0] - room + ((place + 0.5) / 4) * (high[0] - low[0] + 2 * room), low[1] - room, 0];
  const up = new Vector3(...(scene.rotation.map((row) => row[2]) as Vec));
  const pixels = () => {
    const c = camera as OrthographicCamera,
      a = new Vector3(0, 0, 0).project(c),
      b = up.clone().project(c);
    return [((b.x - a.x) * size.width) / 2, (-(b.y - a.y) * size.height) / 2];
  };
  const begin = (e: ThreeEvent<PointerEvent>) => {
    e.stopPropagation();
    if (controls) (controls as never as { enabled: boolean }).enabled = false;
    const { clientX: x, clientY: y } = e.nativeEvent,
      from = h.level_mm;
    const move = (m: PointerEvent) => {
      const [px, py] = pixels(),
        length = px * px + py * py;
      if (length < 1e-3) return;
      setDragged(rounded(from + ((m.clientX - x) * px + (m.clientY - y) * py) / length));
      invalidate();
    };
    const end = () => {
      removeEventListener("pointermove", move);
      if (controls) (controls as never as { enabled: boolean }).enabled = true;
      setDragged((v) => {
        if (v !== null && Math.abs(v - h.level_mm) > STEP / 2) queueMicrotask(() => onDrop(v));
        return null;
      });
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end, { once: true });
  };
  const colour = COLOURS[h.name];
  return (
    <group position={[0, 0, zero + level]}>
      <lineLoop geometry={frame} renderOrder={6}>
        <lineBasicMaterial color={colour} depthTest={dragged === null} />
      </lineLoop>
      <mesh
        position={grip}
        renderOrder={9}
        onPointerDown={begin}
        onPointerOver={() => {
          gl.domElement.style.cursor = "ns-resize";
        }}
        onPointerOut={() => {
          gl.domElement.style.cursor = "";
        }}
        onBeforeRender={function (this: Object3D) {
          this.scale.setScalar(7 / (camera.zoom || 1));
          this.updateMatrixWorld();
          const at = this.getWorldPosition(new Vector3()).project(camera);
          gl.domElement.dataset[`${h.name}Grip`] = `${((at.x + 1) * size.width) / 2},${((1 - at.y) * size.height) / 2}`;
        }}
      >
        <cylinderGeometry args={[1, 1, 0.7, 6]} />
        <meshBasicMaterial color={colour} depthTest={false} />
      </mesh>
      <Label at={[grip[0], grip[1] - room, 0]} text={`${h.name} ${level.toFixed(1).replace("-", "−")}`} />
    </group>
  );
}
