import { Text } from "@mantine/core";
import { usePath } from "../../job/queries";

export function Unreached({ number }: { number: number }) {
  const path = usePath(number);
  const places = path.data?.meta.unreached ?? [];
  if (!places.length) return null;
  return (
    <fieldset>
      <legend>Not reached: {places.length}</legend>
      {places.slice(0, 6).map((u: { reason: string; advice: string; place: number[] }, k: number) => (
        <Text key={k} className="warn" mb={4}>
          ◆ {u.reason} {u.advice} <span className="faint">at {u.place.map((v) => v.toFixed(1)).join(", ")}</span>
        </Text>
      ))}
    </fieldset>
  );
}
