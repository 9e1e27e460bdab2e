import Box from "@mui/material/Box";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useTheme } from "@mui/material/styles";
import { ChartsReferenceLine } from "@mui/x-charts/ChartsReferenceLine";
import { LineChart } from "@mui/x-charts/LineChart";
import { useState } from "react";
import { readTimeline, type Query, type Timeline } from "../api/client";
import { chartLook, chartPair, latencyAxis } from "../parts/charts";
import { millis, percent } from "../parts/format";
import { markName } from "../parts/TimeBar";
import { usePolled } from "../parts/usePolled";

const spans: Record<string, { seconds: number; pace: number }> = {
  "15 min": { seconds: 900, pace: 2000 },
  "6 h": { seconds: 6 * 3600, pace: 20_000 },
  "14 days": { seconds: 14 * 86400, pace: 60_000 },
};

/** Success and latency of a group of requests over time, with revisions and drills. */
export default function History({ query }: { query: Query }) {
  const { palette } = useTheme();
  const [span, setSpan] = useState("15 min");
  const { seconds, pace } = spans[span] ?? { seconds: 900, pace: 2000 };
  const { value } = usePolled(`history ${span} ${JSON.stringify(query)}`, pace, (signal) => readTimeline({ ...query, from: Math.floor(Date.now() / 1000) - seconds }, signal));
  const some = (p: Timeline["points"][number]) => p.ok + p.failed + p.refused > 0;
  const whole = (value?.points ?? []).slice(0, -1); // the last step is not over
  const points = whole.slice(Math.max(0, Math.min(whole.findIndex(some), whole.length - 12))); // a new mesh has no earlier figures
  const times = points.map((p) => new Date(p.at * 1000));
  const short = points.length > 0 && (points[points.length - 1]?.at ?? 0) - (points[0]?.at ?? 0) < 300; // labels with minutes alone would repeat
  const clock: Intl.DateTimeFormatOptions = { hourCycle: "h23", hour: "2-digit", minute: "2-digit", ...(short ? { second: "2-digit" } : {}) };
  const of = (d: Date) => (seconds > 86400 ? d.toLocaleDateString([], { day: "numeric", month: "short" }) : d.toLocaleTimeString([], clock));
  const axis = [{ data: times, scaleType: "time" as const, valueFormatter: of, disableLine: true, tickNumber: 4 }];
  const end = points[points.length - 1]?.at ?? 0;
  const room = (end - (points[0]?.at ?? 0)) / 9; // for the name of a mark, to its right
  const marks = (value?.marks ?? []).map((m, i, all) => (
    <ChartsReferenceLine
      key={`${m.kind}${m.name}`} x={new Date(m.at * 1000)} label={Math.min(all[i + 1]?.at ?? end, end) - m.at > room ? markName(m) : ""} labelAlign="start"
      lineStyle={{ stroke: palette.text.primary, strokeDasharray: m.kind === "drill" ? "2 3" : "none" }} labelStyle={{ fontSize: 10, fill: palette.text.primary }}
    />
  ));
  const chart = chartLook(150);
  const line = (label: string, colour: string, data: (number | null)[], format: (v: number) => string) =>
    ({ label, color: colour, data, showMark: points.filter(some).length < 4, curve: "linear" as const, connectNulls: false, valueFormatter: (v: number | null) => (v === null ? "–" : format(v)) });
  const share = (good: number, all: number) => (all > 0 ? (100 * good) / all : null);
  return (
    <Box data-test="history">
      <ToggleButtonGroup size="small" exclusive value={span} onChange={(_, v: string | null) => { if (v) setSpan(v); }} aria-label="Time range" sx={{ mb: 0.5, "& button": { py: 0.1, textTransform: "none" } }}>
        {Object.keys(spans).map((s) => <ToggleButton key={s} value={s}>{s}</ToggleButton>)}
      </ToggleButtonGroup>
      <Box sx={chartPair}>
        <LineChart
          {...chart} xAxis={axis} yAxis={[{ width: 52, max: 100, tickNumber: 3, valueFormatter: (v: number) => `${Number(v.toFixed(1))}%` }]}
          series={[
            { ...line("callers", palette.primary.main, points.map((p) => share(p.ok, p.ok + p.failed + p.refused)), (v) => percent(v / 100)), id: "callers" },
            { ...line("workloads", palette.warning.main, points.map((p) => share(p.workloadOK, p.workloadRequests)), (v) => percent(v / 100)), id: "second" },
          ]}
        >
          {marks}
        </LineChart>
        <LineChart
          {...chart} xAxis={axis} yAxis={latencyAxis}
          series={[
            line("p50", palette.primary.main, points.map((p) => (some(p) ? p.p50MS : null)), millis),
            { ...line("p95", palette.warning.main, points.map((p) => (some(p) ? p.p95MS : null)), millis), id: "second" },
            line("p99", palette.error.main, points.map((p) => (some(p) ? p.p99MS : null)), millis),
          ]}
        >
          {marks}
        </LineChart>
      </Box>
    </Box>
  );
}
