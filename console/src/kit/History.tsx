import { useQuery } from "@tanstack/react-query";
import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { api, take, type Timeline, type TimelineQuery } from "../api/client";
import { percent } from "./format";
import type { Shade } from "./Plot";
import { LatencyChart } from "./LatencyChart";
import { SharedCursor, TimeChart } from "./TimeChart";

interface Props {
  /** Which requests. */
  of: TimelineQuery;
  /** How long before the end, in seconds. */
  long: number;
  /** The end in seconds since 1970; 0: now. */
  end?: number;
  /** Windows that are compared. */
  shades?: Shade[];
}

/** How often it is read again, in ms. */
const pace = (long: number): number => (long <= 900 ? 2000 : long <= 21_600 ? 20_000 : 60_000);

const some = (p: Timeline["points"][number]): boolean => p.ok + p.failed + p.refused > 0;
const share = (good: number, all: number): number | null => (all > 0 ? (100 * good) / all : null);

/** Success and latency of a group of requests over time, with revisions and drills. */
export function History({ of, long, end = 0, shades = [] }: Props) {
  const { palette } = useTheme();
  const group = JSON.stringify(of);
  const { data: value } = useQuery({
    queryKey: ["history", group, long, end],
    queryFn: ({ signal }) => {
      const now = Math.floor(Date.now() / 1000);
      return take(api.GET("/api/v1/timeline", { params: { query: { ...of, from: (end || now) - long, ...(end ? { to: Math.min(end, now) } : {}) } }, signal }));
    },
    structuralSharing: false, // every point moves
    placeholderData: (old: Timeline | undefined, query) => (query?.queryKey[1] === group ? old : undefined), // another span of the same
    refetchInterval: () => (!end || end > Date.now() / 1000 ? pace(long) : false),
  });
  const whole = end ? (value?.points ?? []) : (value?.points ?? []).slice(0, -1); // the last step is not over
  const first = whole.findIndex(some); // a new mesh has no earlier figures
  const points = end ? whole : whole.slice(Math.max(0, Math.min(first < 0 ? 0 : first, whole.length - 12)));
  const times = points.map((p) => p.at);
  const common = { times, marks: value?.marks ?? [], shades };
  return (
    <SharedCursor>
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 1fr) minmax(0, 1fr)" } }} data-test="history">
        <TimeChart
          {...common} title="Success" max={100} format={(v) => percent(v / 100)}
          lines={[
            { name: "callers", colour: palette.primary.main, values: points.map((p) => share(p.ok, p.ok + p.failed + p.refused)) },
            { name: "workloads", colour: palette.warning.main, isDashed: true, values: points.map((p) => share(p.workloadOK, p.workloadRequests)) },
          ]}
        />
        <LatencyChart {...common} points={points} min={0} />
      </Box>
    </SharedCursor>
  );
}
