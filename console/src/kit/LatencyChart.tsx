import { useTheme } from "@mui/material/styles";
import type { Timeline } from "../api/client";
import { millis } from "./format";
import { TimeChart, type TimeChartProps } from "./TimeChart";

type Point = Timeline["points"][number];

/** Latency over time, in one hue from p50 to p99. */
export function LatencyChart({ points, ...common }: { points: Point[] } & Omit<TimeChartProps, "title" | "lines" | "format">) {
  const { latency } = useTheme().palette.roles;
  const line = (name: "p50" | "p95" | "p99", of: (p: Point) => number) => ({
    name, colour: latency[name], values: points.map((p) => (p.ok + p.failed + p.refused > 0 ? of(p) : null)),
  });
  return <TimeChart {...common} title="Latency" format={(v) => (v === 0 ? "0" : millis(v))} lines={[line("p50", (p) => p.p50MS), line("p95", (p) => p.p95MS), line("p99", (p) => p.p99MS)]} />;
}
