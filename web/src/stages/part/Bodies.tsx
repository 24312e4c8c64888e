import { Select } from "@mantine/core";
import { pick } from "../../job/picking";
import { usePart } from "../../job/queries";
import { useJob } from "../../job/useJob";
import { f } from "./references";

const ROLES = ["part", "stock", "fixture", "left out"];

export function Bodies() {
  const job = useJob();
  const part = usePart();
  const bodies = (part.data?.summary.bodies ?? []) as {
    name: string;
    kind: string;
    first_face: number;
    faces: number;
    volume_mm3: number;
    colour: string;
  }[];
  const roles = job.doc.part?.roles ?? [];
  // A role of a body that the model does not have any more goes with the next choice.
  const still = roles.filter((r) => bodies.some((b) => b.name === r.body));
  const put = (body: string, role: string) =>
    job.edit(
      [
        {
          path: "part/roles",
          value: [...still.filter((r) => r.body !== body), ...(role === "part" ? [] : [{ body, role }])],
          was: roles,
        },
      ],
      `${body} is ${role}`,
    );
  return (
    <div className="scroll">
      <table className="dense" aria-label="Bodies">
        <thead>
          <tr>
            <th>Body</th>
            <th>Kind</th>
            <th className="n">Volume, cm³</th>
            <th className="n">Faces</th>
            <th>Colour</th>
            <th>It is</th>
          </tr>
        </thead>
        <tbody>
          {bodies.map((b, k) => (
            <tr
              key={b.name}
              onMouseEnter={() => pick({ lit: Array.from({ length: b.faces }, (_, i) => b.first_face + i) })}
              onMouseLeave={() => pick({ lit: [] })}
            >
              <td>{b.name}</td>
              <td>{b.kind}</td>
              <td className="n">{f(b.volume_mm3 / 1000)}</td>
              <td className="n">{b.faces}</td>
              <td>
                {b.colour ? (
                  <>
                    <span className="swatch" style={{ background: b.colour }} /> {b.colour}
                  </>
                ) : (
                  "–"
                )}
              </td>
              <td>
                <Select
                  size="xs"
                  w={110}
                  aria-label={`What ${b.name} is`}
                  value={part.data!.roles[k]}
                  data={ROLES}
                  allowDeselect={false}
                  onChange={(v) => put(b.name, v!)}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
