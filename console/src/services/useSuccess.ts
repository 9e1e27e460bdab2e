import { useQueries } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { Range } from "../kit/range";

const most = 60; // services whose history is read
const none: Map<string, (number | null)[]> = new Map();

/** The success of services over the time of the page; of the first sixty. */
export function useSuccess(names: string[], range: Range): Map<string, (number | null)[]> {
  const wanted = names.slice(0, most);
  const step = Math.max(10, Math.ceil(range.history / 40));
  const found = useQueries({
    queries: wanted.map((service) => ({
      queryKey: ["success", service, range.history, range.at],
      queryFn: ({ signal }: { signal: AbortSignal }) => {
        const to = range.at || Math.floor(Date.now() / 1000);
        return take(api.GET("/api/v1/timeline", { params: { query: { service, from: to - range.history, to, step } }, signal }));
      },
      refetchInterval: range.at ? (false as const) : 15_000, staleTime: 10_000,
    })),
  });
  if (wanted.length === 0) return none;
  return new Map(wanted.map((name, i) => [name, (found[i]?.data?.points ?? []).map((p) => (p.ok + p.failed + p.refused > 0 ? p.success : null))]));
}
