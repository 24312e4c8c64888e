import type { ReactNode } from "react";
import { pick } from "./picking";

type Props = { faces: number[]; onTake?: () => void; chosen?: boolean; children: ReactNode };

/** A row of a table that stands for faces of the part: it lights them under the pointer, and picks them when taken. */
export function FaceRow({ faces, onTake, chosen, children }: Props) {
  const take = onTake ?? (() => faces.length > 0 && pick({ faces, edges: [] }));
  return (
    <tr
      tabIndex={0}
      aria-selected={chosen}
      onClick={take}
      onKeyDown={(e) => e.target === e.currentTarget && e.key === "Enter" && take()}
      onMouseEnter={() => pick({ lit: faces })}
      onMouseLeave={() => pick({ lit: [] })}
    >
      {children}
    </tr>
  );
}
