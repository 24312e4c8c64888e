/** One request for what is asked several times after the same happening. */
import { QueryClient } from "@tanstack/react-query";
import type { Plain } from "./tabs";

const KEPT_MS = 5000;

/** The answer to the first who asked with this mark; what went wrong is asked again by the next one. */
export function askOnce(ask: (url: string) => Promise<Plain>): (url: string, mark: string) => Promise<Plain> {
  const client = new QueryClient();
  return (url, mark) =>
    client.fetchQuery({
      queryKey: [mark, url],
      queryFn: () => ask(url),
      staleTime: ({ state }) => (state.data?.status === 200 ? KEPT_MS : 0),
      gcTime: KEPT_MS,
      networkMode: "always",
    });
}
