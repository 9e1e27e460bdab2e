import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { LineChart } from "@mui/x-charts/LineChart";
import type { Forecast } from "../api/client";
import { millis, percent } from "../kit/format";

type Side = NonNullable<Forecast["sweep"]>[number]["before"];

/** Refusals and latency at other rates. */
export default function Sweep({ forecast: f }: { forecast: Forecast }) {
  const { palette } = useTheme();
  const points = f.sweep ?? [];
  const hasDraft = (f.refusalStart?.length ?? 0) > 1;
  const chart = {
    height: 190, margin: { left: 4, right: 12, top: 10, bottom: 0 }, skipAnimation: true, grid: { horizontal: true }, hideLegend: !hasDraft,
    slotProps: { legend: { direction: "horizontal" as const, position: { vertical: "top" as const, horizontal: "end" as const } } },
    xAxis: [{ data: points.map((p) => p.rps), label: "requests per second that enter the mesh", valueFormatter: (v: number) => v.toFixed(0), disableLine: true, tickNumber: 8 }],
  };
  const series = (of: (side: Side) => number, write: (v: number) => string) => {
    const line = (label: string, colour: string, data: number[]) => ({ label, color: colour, data, showMark: true, shape: "circle" as const, curve: "linear" as const, valueFormatter: (v: number | null) => (v === null ? "–" : write(v)) });
    return [line("in force", palette.primary.main, points.map((p) => of(p.before))), ...(hasDraft ? [{ ...line("draft", palette.warning.main, points.map((p) => of(p.after))), id: "second" }] : [])];
  };
  const most = Math.max(0.01, ...points.flatMap((p) => [p.before.refused, p.after.refused]));
  return (
    <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 1fr) minmax(0, 1fr)" }, mt: 1, "& path[data-series='second']": { strokeDasharray: "5 3" } }} data-test="sweep">
      <figure style={{ margin: 0 }} aria-label="Share refused at other rates">
        <Box component="figcaption" sx={{ typography: "h3" }}>Refused</Box>
        <LineChart {...chart} yAxis={[{ width: 60, min: 0, max: most, tickNumber: 3, disableLine: true, valueFormatter: (v: number) => `${Number((100 * v).toFixed(2))}%` }]} series={series((s) => s.refused, percent)} />
      </figure>
      <figure style={{ margin: 0 }} aria-label="Latency at other rates">
        <Box component="figcaption" sx={{ typography: "h3" }}>Latency, p95</Box>
        <LineChart {...chart} yAxis={[{ width: 68, min: 0, tickNumber: 3, disableLine: true, valueFormatter: (v: number) => (v === 0 ? "0" : millis(v)) }]} series={series((s) => s.p95MS, millis)} />
      </figure>
    </Box>
  );
}
