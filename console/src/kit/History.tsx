import { useQuery } from "@tanstack/react-query";
import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { api, take, type Timeline, type TimelineQuery } from "../api/client";
import { millis, percent } from "./format";
import type { Shade } from "./Plot";
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
  const { latency } = palette.roles;
  const common = { times, marks: value?.marks ?? [], shades };
  const measured = (of: (p: Timeline["points"][number]) => number) => points.map((p) => (some(p) ? of(p) : null));
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
        <TimeChart
          {...common} title="Latency" min={0} format={(v) => (v === 0 ? "0" : millis(v))}
          lines={[
            { name: "p50", colour: latency.p50, values: measured((p) => p.p50MS) },
            { name: "p95", colour: latency.p95, values: measured((p) => p.p95MS) },
            { name: "p99", colour: latency.p99, values: measured((p) => p.p99MS) },
          ]}
        />
      </Box>
    </SharedCursor>
  );
}
