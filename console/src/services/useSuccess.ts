import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { Range } from "../kit/range";

export type Successes = Map<string, (number | null)[]>;

const none: Successes = new Map();

/** The success of every service over the time of the page. */
export function useSuccess(isWanted: boolean, range: Range): Successes {
  const { data } = useQuery({
    queryKey: ["success", range.history, range.at, range.site], enabled: isWanted,
    queryFn: async ({ signal }): Promise<Successes> => {
      const to = range.at || Math.floor(Date.now() / 1000);
      const found = await take(api.GET("/api/v1/timeline/services", { params: { query: { from: to - range.history, to, ...(range.site ? { site: range.site } : {}) } }, signal }));
      return new Map(found.services.map((s) => [s.service, s.success]));
    },
    refetchInterval: range.at ? false : range.history <= 900 ? 15_000 : 60_000, staleTime: 10_000,
  });
  return data ?? none;
}
