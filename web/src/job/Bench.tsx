import { useState } from "react";

/** The panel along the bottom, as tall as wished; the height is remembered. */
export function Bench({ children }: { children: React.ReactNode }) {
  const [height, setHeight] = useState(() => Number(localStorage.getItem("bench") ?? 250));
  const keep = (h: number) => {
    const next = Math.round(Math.max(90, Math.min(h, window.innerHeight - 220)));
    setHeight(next);
    localStorage.setItem("bench", String(next));
  };
  return (
    <section className="bench" style={{ height }} aria-label="Bench">
      <div
        className="grip"
        role="separator"
        aria-orientation="horizontal"
        aria-label="Height of the bench"
        aria-valuenow={height}
        tabIndex={0}
        onKeyDown={(e) => {
          if (e.key === "ArrowUp") keep(height + 24);
          if (e.key === "ArrowDown") keep(height - 24);
        }}
        onPointerDown={(e) => {
          const from = e.clientY,
            was = height;
          const move = (m: PointerEvent) => keep(was + from - m.clientY);
          const stop = () => {
            window.removeEventListener("pointermove", move);
            window.removeEventListener("pointerup", stop);
          };
          window.addEventListener("pointermove", move);
          window.addEventListener("pointerup", stop);
        }}
      />
      {children}
    </section>
  );
}
