import { useCallback, useEffect, useState } from "react";
import type { Block, Finding } from "../../api/client";
import { getMoment, setMoment } from "../../job/moment";
import { played, type StopOn } from "../../job/playing";
import { useView } from "../../job/view";

/** Between two moments at least; pictures come as fast as the screen draws them. */
const STEP_MS = 50;
/** What one moment may go on at most, however long the last picture took. */
const STALL_MS = 500;

/** Plays the proof, as fast as told, until a finding that stops it or the end. */
export function usePlaying(columns: Block | undefined, findings: Finding[], speed: number, stopOn: StopOn) {
  const view = useView();
  const [playing, setPlaying] = useState(false);
  const { set } = view;
  useEffect(() => {
    if (!playing || !columns) return;
    let frame = 0,
      last = performance.now();
    const step = (now: number) => {
      frame = requestAnimationFrame(step);
      if (now - last < STEP_MS) return;
      const seconds = (speed * Math.min(now - last, STALL_MS)) / 1000;
      last = now;
      const { moment, over } = played(columns.end_s as Float64Array, getMoment(), seconds, findings, stopOn);
      if (!over) return setMoment(moment);
      set({ motion: moment }); // the address learns where it stops, not of each moment on the way
      setPlaying(false);
    };
    frame = requestAnimationFrame(step);
    return () => cancelAnimationFrame(frame);
  }, [playing, columns, findings, speed, stopOn, set]);
  const toggle = useCallback(() => {
    if (playing) {
      set({ motion: getMoment() });
      return setPlaying(false);
    }
    set({ deviation: false, ...(columns && getMoment() >= columns.end_s.length ? { motion: 0 } : {}) });
    setPlaying(true);
  }, [playing, columns, set]);
  return { playing, toggle };
}
