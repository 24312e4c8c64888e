import { counted } from "../../words";
import { Group, Select, Text } from "@mantine/core";
import { useState } from "react";
import { FaceRow } from "../../job/FaceRow";
import { pick } from "../../job/picking";
import { useFeatures } from "../../job/queries";
import { arrow, LOOKS, type Row, rowsOf } from "./featureRows";

export function Features() {
  const [look, setLook] = useState("all");
  const found = useFeatures(LOOKS[look]);
  const [chosen, setChosen] = useState("");
  if (found.error)
    return (
      <Text p={12} className="faint">
        {found.error.message}
      </Text>
    );
  const rows = found.data ? rowsOf(found.data) : [];
  const take_ = (r: Row) => {
    setChosen(r.name + r.size);
    pick({ faces: r.faces, edges: [], lit: [] });
  };
  return (
    <div className="scroll">
      <Group gap={8} px={8} py={5}>
        <Select
          size="xs"
          w={90}
          aria-label="Seen from"
          value={look}
          data={Object.keys(LOOKS)}
          allowDeselect={false}
          onChange={(v) => setLook(v!)}
        />
        <Text className="faint">
          {found.isLoading
            ? "looking …"
            : [
                counted(found.data?.holes?.length ?? 0, "hole"),
                counted(found.data?.pockets?.length ?? 0, "pocket or slot", "pockets and slots"),
                counted(rows.length, "row"),
              ].join(", ")}
        </Text>
      </Group>
      <table className="dense" aria-label="Features">
        <thead>
          <tr>
            <th>Feature</th>
            <th>Kind</th>
            <th className="n">Size, mm</th>
            <th className="n">Depth</th>
            <th>From</th>
            <th>Reach</th>
            <th>Details</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r, k) => (
            <FaceRow key={k} faces={r.faces} chosen={chosen === r.name + r.size} onTake={() => take_(r)}>
              <td>{r.name}</td>
              <td>{r.what}</td>
              <td className="n">{r.size}</td>
              <td className="n">{r.depth}</td>
              <td>{arrow(r.direction)}</td>
              <td title={r.why} className={r.accessible === false ? "warn" : ""}>
                {r.accessible == null ? "" : r.accessible ? "✓" : `△ ${r.why}`}
              </td>
              <td style={{ whiteSpace: "normal" }}>{r.note}</td>
            </FaceRow>
          ))}
        </tbody>
      </table>
      {found.data && !rows.length && (
        <Text className="faint" p={12}>
          Nothing is recognised from here. Try another direction, or all.
        </Text>
      )}
    </div>
  );
}
