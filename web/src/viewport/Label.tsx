import { useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import { CanvasTexture, LinearFilter, type Object3D } from "three";
import type { Vec } from "../job/document";

/** A few words that stand at a place and always face the eye, as tall on the screen as text. */
export function Label({ at, text }: { at: Vec; text: string }) {
  const { camera, invalidate } = useThree();
  const { texture, ratio } = useMemo(() => {
    const canvas = document.createElement("canvas"),
      g = canvas.getContext("2d")!;
    const font = "600 26px 'Source Sans 3 Variable', sans-serif";
    g.font = font;
    canvas.width = Math.ceil(g.measureText(text).width) + 20;
    canvas.height = 40;
    g.font = font;
    g.fillStyle = "#fffefb";
    g.strokeStyle = "#7d7462";
    g.lineWidth = 2;
    g.beginPath();
    g.roundRect(1, 1, canvas.width - 2, 38, 6);
    g.fill();
    g.stroke();
    g.fillStyle = "#22262a";
    g.textBaseline = "middle";
    g.fillText(text, 10, 21);
    const texture = new CanvasTexture(canvas);
    texture.minFilter = LinearFilter;
    return { texture, ratio: canvas.width / canvas.height };
  }, [text]);
  useEffect(() => {
    invalidate();
    return () => texture.dispose();
  }, [texture, invalidate]);
  return (
    <sprite
      position={at}
      renderOrder={10}
      onBeforeRender={function (this: Object3D) {
        const h = 20 / (camera.zoom || 1);
        this.scale.set(h * ratio, h, 1);
        this.updateMatrixWorld();
      }}
    >
      <spriteMaterial map={texture} depthTest={false} />
    </sprite>
  );
}
