import { useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import { BufferAttribute, BufferGeometry, Group, Mesh, MeshLambertMaterial, DoubleSide } from "three";
import { fetchBlock, type Block } from "../api/client";
import { isMoving, move, onMotion } from "./motion";

type Props = {
  url: string;
  /** What a moment is counted in: motions of a proof, or rows. */
  by?: "motion" | "row";
  proofKey: string;
  motion: number;
  deviation: boolean;
  /** The colour of a distance to the part. */
  paint: Paint;
  onMeta?: (meta: Block["meta"]) => void;
  onBusy: (busy: boolean) => void;
  onError: (text: string) => void;
};
type Paint = (mm: number) => [number, number, number];
type Moment = { key: string; motion: number; deviation: boolean };

const same = (a: Moment | null, b: Moment) =>
  !!a && a.key === b.key && a.motion === b.motion && a.deviation === b.deviation;

/** The stock at a moment of the proof: a coarse one at once, the bricks that differ from what is shown when it rests. */
export function StockBricks(props: Props) {
  const { url, by = "motion", proofKey, motion, deviation, paint, onBusy, onError, onMeta } = props;
  const { invalidate } = useThree();
  const fine = useMemo(() => new Group(), []),
    coarse = useMemo(() => new Group(), []);
  const bricks = useRef(new Map<number, Mesh>());
  const shown = useRef<{ fine: Moment | null; coarse: Moment | null }>({ fine: null, coarse: null });
  const busy = useRef(false);
  const wanted = useRef<Moment>({ key: proofKey, motion, deviation });
  wanted.current = { key: proofKey, motion, deviation };
  const plain = useMemo(() => new MeshLambertMaterial({ color: "#cfc8b8", flatShading: true, side: DoubleSide }), []);
  const mapped = useMemo(
    () => new MeshLambertMaterial({ vertexColors: true, flatShading: true, side: DoubleSide }),
    [],
  );

  useEffect(() => {
    const choose = () => {
      const sharp = same(shown.current.fine, wanted.current),
        rough = same(shown.current.coarse, wanted.current);
      // A coarse picture of the moment before is better than waiting for a fine one of now.
      coarse.visible = isMoving() ? coarse.children.length > 0 : rough && !sharp;
      fine.visible = !coarse.visible;
      invalidate();
    };
    const put = (block: Block) => {
      onMeta?.(block.meta);
      if (block.meta.full) {
        bricks.current.forEach((m) => {
          fine.remove(m);
          m.geometry.dispose();
        });
        bricks.current.clear();
      }
      let v = 0,
        t = 0;
      for (let b = 0; b < block.ids.length; b++) {
        const nv = block.vertex_counts[b],
          nt = block.index_counts[b],
          id = block.ids[b];
        const old = bricks.current.get(id);
        if (old) {
          fine.remove(old);
          old.geometry.dispose();
          bricks.current.delete(id);
        }
        if (nt > 0) {
          const mesh = new Mesh(brickGeometry(block, v, nv, t, nt, paint), block.deviation ? mapped : plain);
          bricks.current.set(id, mesh);
          fine.add(mesh);
        }
        v += nv;
        t += nt;
      }
    };
    const putCoarse = (block: Block) => {
      coarse.children.forEach((m) => (m as Mesh).geometry.dispose());
      coarse.clear();
      coarse.add(new Mesh(brickGeometry(block, 0, block.vertex_counts[0], 0, block.index_counts[0], paint), plain));
    };
    const next = async (): Promise<void> => {
      if (busy.current) return;
      const want = wanted.current,
        { fine: have, coarse: rough } = shown.current;
      const sharp = same(have, want),
        needsCoarse = !want.deviation && !same(rough, want);
      if (sharp && !needsCoarse) return onBusy(false);
      // While it goes on, coarse ones are enough; the fine one comes when all rests.
      if (!needsCoarse && isMoving()) return onBusy(false);
      busy.current = true;
      // A sign that turns would cost more than a coarse picture, but where there is none yet.
      onBusy(!sharp && (!needsCoarse || !rough));
      try {
        if (needsCoarse) {
          putCoarse(await fetchBlock(`${url}?${by}=${want.motion}&coarse=true`));
          shown.current.coarse = want;
        } else {
          const since =
            have && have.key === want.key && !have.deviation && !want.deviation ? `&have=${have.motion}` : "";
          put(await fetchBlock(`${url}?${by}=${want.motion}${since}${want.deviation ? "&deviation=true" : ""}`));
          shown.current.fine = want;
        }
        performance.mark("fenrik stock");
        choose();
      } catch (e) {
        onError((e as Error).message);
        busy.current = false;
        onBusy(false);
        return;
      }
      busy.current = false;
      return next();
    };
    if (shown.current.fine && !same(shown.current.fine, wanted.current) && !deviation) move();
    const quiet = onMotion(() => {
      choose();
      void next();
    });
    choose();
    void next();
    return quiet;
  }, [url, proofKey, motion, deviation, paint, by, fine, coarse, plain, mapped, invalidate, onBusy, onError, onMeta]);
  useEffect(
    () => () => {
      bricks.current.forEach((m) => m.geometry.dispose());
      plain.dispose();
      mapped.dispose();
    },
    [plain, mapped],
  );
  return (
    <>
      <primitive object={fine} />
      <primitive object={coarse} />
    </>
  );
}

/** The triangles of one brick out of a block. */
function brickGeometry(block: Block, v: number, nv: number, t: number, nt: number, paint: Paint): BufferGeometry {
  const g = new BufferGeometry();
  g.setAttribute("position", new BufferAttribute(block.vertices.slice(3 * v, 3 * (v + nv)), 3));
  g.setIndex(new BufferAttribute(block.indices.slice(t, t + nt), 1));
  if (block.deviation) {
    const colour = new Float32Array(3 * nv);
    for (let i = 0; i < nv; i++) colour.set(paint(block.deviation[v + i] as number), 3 * i);
    g.setAttribute("color", new BufferAttribute(colour, 3));
  }
  return g;
}
