import { useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import { BufferAttribute, BufferGeometry, Group, Mesh, MeshStandardMaterial, DoubleSide } from "three";
import { fetchBlock, type Block } from "../api/client";
import { deviationColour } from "../theme";

type Props = { url: string; proofKey: string; motion: number; deviation: boolean; band: number; onBusy: (busy: boolean) => void; onError: (text: string) => void };

/** The stock at a moment of the proof; asks only for the bricks that differ from what is shown. */
export function StockBricks({ url, proofKey, motion, deviation, band, onBusy, onError }: Props) {
  const { invalidate } = useThree();
  const group = useMemo(() => new Group(), []);
  const bricks = useRef(new Map<number, Mesh>());
  const shown = useRef<{ key: string; motion: number | null; deviation: boolean }>({ key: "", motion: null, deviation: false });
  const busy = useRef(false);
  const wanted = useRef({ proofKey, motion, deviation });
  wanted.current = { proofKey, motion, deviation };
  const plain = useMemo(() => new MeshStandardMaterial({ color: "#cfc8b8", roughness: 0.62, metalness: 0.12, flatShading: true, side: DoubleSide }), []);
  const mapped = useMemo(() => new MeshStandardMaterial({ vertexColors: true, roughness: 0.9, flatShading: true, side: DoubleSide }), []);

  useEffect(() => {
    const clear = () => { bricks.current.forEach((m) => { group.remove(m); m.geometry.dispose(); }); bricks.current.clear(); };
    const put = (block: Block) => {
      if (block.meta.full) clear();
      let v = 0, t = 0;
      for (let b = 0; b < block.ids.length; b++) {
        const nv = block.vertex_counts[b], nt = block.index_counts[b], id = block.ids[b];
        const old = bricks.current.get(id);
        if (old) { group.remove(old); old.geometry.dispose(); bricks.current.delete(id); }
        if (nt > 0) {
          const g = new BufferGeometry();
          g.setAttribute("position", new BufferAttribute(block.vertices.slice(3 * v, 3 * (v + nv)), 3));
          g.setIndex(new BufferAttribute(block.indices.slice(t, t + nt), 1));
          if (block.deviation) {
            const colour = new Float32Array(3 * nv);
            for (let i = 0; i < nv; i++) colour.set(deviationColour(block.deviation[v + i], band), 3 * i);
            g.setAttribute("color", new BufferAttribute(colour, 3));
          }
          const mesh = new Mesh(g, block.deviation ? mapped : plain);
          bricks.current.set(id, mesh);
          group.add(mesh);
        }
        v += nv;
        t += nt;
      }
      invalidate();
    };
    const next = async () => {
      if (busy.current) return;
      const want = { ...wanted.current }, have = shown.current;
      if (have.key === want.proofKey && have.motion === want.motion && have.deviation === want.deviation) return onBusy(false);
      busy.current = true;
      onBusy(true);
      try {
        const since = have.key === want.proofKey && have.motion !== null && !have.deviation && !want.deviation ? `&have=${have.motion}` : "";
        put(await fetchBlock(`${url}?motion=${want.motion}${since}${want.deviation ? "&deviation=true" : ""}`));
        shown.current = { key: want.proofKey, motion: want.motion, deviation: want.deviation };
      } catch (e) {
        onError((e as Error).message);
        busy.current = false;
        onBusy(false);
        return;
      }
      busy.current = false;
      next();
    };
    next();
  }, [url, proofKey, motion, deviation, band, group, plain, mapped, invalidate, onBusy, onError]);
  useEffect(() => () => { bricks.current.forEach((m) => m.geometry.dispose()); plain.dispose(); mapped.dispose(); }, [plain, mapped]);
  return <primitive object={group} />;
}
