import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { LineChart } from "@mui/x-charts/LineChart";
import type { Release, JudgementSide } from "../api/client";
import { chartLook, chartPair } from "../parts/charts";
import { seconds } from "../parts/format";

/** Share and success of both versions over time: a point per judgement, of the requests since the last one. */
export function OverTime({ release: r }: { release: Release }) {
  const { palette } = useTheme();
  const list = r.judgements ?? [];
  if (list.length < 2) return null;
  const chart = chartLook(160);
  const began = Date.parse(r.began);
  const axis = [{ data: list.map((j) => (Date.parse(j.at) - began) / 1000), valueFormatter: (v: number) => seconds(v * 1000), disableLine: true, tickNumber: 5 }];
  const line = (label: string, colour: string, data: (number | null)[]) => ({ label, color: colour, data, showMark: list.length < 6, curve: "linear" as const, connectNulls: true });
  const of = (s: JudgementSide) => (s.success === null ? null : 100 * s.success);
  const low = Math.min(100, ...list.flatMap((j) => [of(j.newTo) ?? 100, of(j.newFrom) ?? 100]));
  return (
    <Box sx={{ ...chartPair, mt: 1 }} data-test="over-time">
      <LineChart {...chart} xAxis={axis} yAxis={[{ width: 44, min: 0, max: 100, tickNumber: 3, valueFormatter: (v: number) => `${v}%` }]}
        series={[{ ...line(`share of ${r.to}, with its cohort`, palette.primary.main, list.map((j) => 100 * j.share)) }, { ...line("planned", palette.text.secondary, list.map((j) => 100 * (r.steps[j.step]?.share ?? 0))), id: "second" }]} />
      <LineChart {...chart} xAxis={axis} yAxis={[{ width: 60, min: Math.max(0, Math.floor(low - 1)), max: 100, tickNumber: 3, valueFormatter: (v: number) => `${v.toFixed(low > 97 ? 1 : 0)}%` }]}
        series={[line(`success of ${r.to}`, palette.primary.main, list.map((j) => of(j.newTo))), { ...line(`success of ${r.from}`, palette.warning.main, list.map((j) => of(j.newFrom))), id: "second" }]} />
    </Box>
  );
}
