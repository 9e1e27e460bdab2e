import { millis } from "./format";

/** Properties that all line charts share. */
export const chartLook = (height: number) => ({
  height, margin: { left: 4, right: 8, top: 14, bottom: 0 }, skipAnimation: true, hideLegend: false,
  slotProps: { legend: { direction: "horizontal" as const, position: { vertical: "top" as const, horizontal: "end" as const } } },
});

/** Two charts side by side; the line whose id is "second" is dashed. */
export const chartPair = { display: "grid", gap: 2, gridTemplateColumns: { xs: "1fr", md: "1fr 1fr" }, "& path[data-series='second']": { strokeDasharray: "5 3" } };

/** An axis of latencies. */
export const latencyAxis = [{ width: 68, min: 0, tickNumber: 3, valueFormatter: (v: number) => (v === 0 ? "0" : millis(v)) }];
