import type { Vec } from "../../job/document";

const LEVELS = [
  { z: 1, name: "top" },
  { z: 0, name: "middle" },
  { z: -1, name: "bottom" },
] as const;

const SIDES = { x: { [-1]: "left", 0: "middle", 1: "right" }, y: { [-1]: "front", 0: "middle", 1: "back" } } as Record<
  string,
  Record<number, string>
>;

/** The 27 points of a box as three planes seen from above. */
export function ZeroPoints({ at, onPick }: { at: Vec | null; onPick: (at: Vec) => void }) {
  return (
    <div className="zero27">
      {LEVELS.map(({ z, name }) => (
        <div key={z}>
          <div className="faint">{name}</div>
          <div className="plane">
            {[1, 0, -1].map((y) =>
              [-1, 0, 1].map((x) => {
                const on = !!at && at[0] === x && at[1] === y && at[2] === z;
                return (
                  <button
                    key={`${x}${y}`}
                    type="button"
                    aria-pressed={on}
                    aria-label={`${name}, ${SIDES.y[y]}, ${SIDES.x[x]}`}
                    onClick={() => onPick([x, y, z])}
                  >
                    {on ? "●" : "·"}
                  </button>
                );
              }),
            )}
          </div>
        </div>
      ))}
    </div>
  );
}
