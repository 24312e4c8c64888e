import { Group, Progress, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";

/** How far a first start has come: until then nothing is computed, though all can be looked at. */
export function GettingReady() {
  const health = useQuery({
    queryKey: ["health"],
    queryFn: () => take(api.GET("/api/health")),
    refetchInterval: (q) => (q.state.data?.ready ? false : 1000),
  });
  const h = health.data;
  if (!h || h.ready) return null;
  return (
    <Group gap={10} mb="md" wrap="nowrap" role="status">
      <Text style={{ whiteSpace: "nowrap" }}>Getting ready for the first time: {h.words}</Text>
      <Progress value={100 * h.fraction} flex={1} aria-label="Getting ready" />
      <Text className="faint">{Math.round(100 * h.fraction)} %</Text>
    </Group>
  );
}
