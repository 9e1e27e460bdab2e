import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { useDrawingArea, useXScale, useYScale } from "@mui/x-charts/hooks";
import { LineChart } from "@mui/x-charts/LineChart";
import type { Mark } from "../api/client";
import { axisTime, moment, seconds } from "./format";
import { markName } from "./marks";
import { useCursor, type Line, type TimeChartProps } from "./TimeChart";

/** A window that is compared, in the units of the axis. */
export interface Shade {
  name: string;
  from: number;
  to: number;
  colour: string;
}

/** The plot of a TimeChart. */
export default function Plot({ times, isRelative = false, lines, format, min, max, marks = [], shades = [], height = 168 }: TimeChartProps) {
  const { palette } = useTheme();
  const cursor = useCursor();
  const first = Math.min(...times, ...shades.map((s) => s.from));
  const last = Math.max(...times, ...shades.map((s) => s.to));
  const long = last - first;
  const toAxis = (t: number): Date | number => (isRelative ? t : new Date(t * 1000));
  const label = (v: Date | number, isTick: boolean): string =>
    isRelative ? seconds(Number(v) * 1000) : isTick ? axisTime(v as Date, long) : moment((v as Date).getTime());
  const index = cursor.at === null ? -1 : times.indexOf(cursor.at);
  const highlighted = index >= 0 ? [{ axisId: "time", dataIndex: index }] : [];
  const isAlone = (values: Line["values"], i: number) => values[i] != null && values[i - 1] == null && values[i + 1] == null;
  return (
    <Box sx={{ height: 1, "& path[data-series$='~dashed']": { strokeDasharray: "5 3" } }}>
      <LineChart
        height={height} skipAnimation grid={{ horizontal: true }}
        margin={{ left: 4, right: 12, top: marks.length > 0 ? 26 : 10, bottom: 0 }}
        slotProps={{ legend: { direction: "horizontal", position: { vertical: "top", horizontal: "end" } } }} hideLegend={lines.length < 2}
        xAxis={[{
          id: "time" as const, data: times.map(toAxis), scaleType: (isRelative ? "linear" : "time") as "time", min: toAxis(first), max: toAxis(last), disableLine: true, tickNumber: 5,
          valueFormatter: (v: Date | number, c: { location: string }) => label(v, c.location === "tick"),
        }]}
        yAxis={[{ width: 60, tickNumber: 4, disableLine: true, valueFormatter: format, ...(min === undefined ? {} : { min }), ...(max === undefined ? {} : { max }) }]}
        series={lines.map((l, i) => ({
          id: `${i}${l.isDashed ? "~dashed" : ""}`, label: l.name, color: l.colour, data: l.values, curve: "linear" as const, connectNulls: false,
          showMark: ({ index: at }: { index: number }) => isAlone(l.values, at), shape: "circle" as const, valueFormatter: (v: number | null) => (v === null ? "–" : format(v)),
        }))}
        highlightedAxis={highlighted} tooltipAxis={highlighted}
        onHighlightedAxisChange={(items) => cursor.set(times[items[0]?.dataIndex ?? -1] ?? null)}
      >
        <Shades shades={shades} toAxis={toAxis} />
        {lines.map((l) => l.low && l.high && <Band key={l.name} line={l} times={times} toAxis={toAxis} />)}
        <Marks marks={marks.filter((m) => m.at >= first && m.at <= last)} toAxis={toAxis} colour={palette.text.primary} />
      </LineChart>
    </Box>
  );
}

type Scaled = (t: number) => Date | number;

function Shades({ shades, toAxis }: { shades: Shade[]; toAxis: Scaled }) {
  const x = useXScale<"time">();
  const { top, height } = useDrawingArea();
  const { palette } = useTheme();
  return (
    <g>
      {shades.map((s) => {
        const from = x(toAxis(s.from)) ?? 0;
        const wide = Math.max(1, (x(toAxis(s.to)) ?? 0) - from);
        return (
          <g key={s.name}>
            <rect x={from} y={top} width={wide} height={height} fill={s.colour} />
            <text x={from + wide / 2} y={top + height - 4} fontSize={11} textAnchor="middle" fill={palette.text.secondary}>{s.name}</text>
          </g>
        );
      })}
    </g>
  );
}

function Band({ line, times, toAxis }: { line: Line; times: number[]; toAxis: Scaled }) {
  const x = useXScale<"time">();
  const y = useYScale<"linear">();
  const at = times.flatMap((t, i) => {
    const [low, high] = [line.low?.[i], line.high?.[i]];
    return low == null || high == null ? [] : [{ x: x(toAxis(t)) ?? 0, low: y(low) ?? 0, high: y(high) ?? 0 }];
  });
  if (at.length < 2) return null;
  const path = `M${at.map((p) => `${p.x},${p.high}`).join("L")}L${at.toReversed().map((p) => `${p.x},${p.low}`).join("L")}Z`;
  return <path d={path} fill={line.colour} fillOpacity={0.16} />;
}

/** Names of marks above the plot; one that has no room keeps its tick alone. */
function Marks({ marks, toAxis, colour }: { marks: Mark[]; toAxis: Scaled; colour: string }) {
  const x = useXScale<"time">();
  const { top, height, left, width } = useDrawingArea();
  const at = marks.map((m) => ({ m, x: x(toAxis(m.at)) ?? 0, name: markName(m) }));
  const room = (name: string) => 4 + name.length * 6.5;
  return (
    <g>
      {at.map(({ m, x: here, name }, i) => {
        const next = at[i + 1];
        const hasRoom = !next || next.x - here > room(name) / 2 + room(next.name) / 2;
        const anchor = here < left + 12 ? "start" : here > left + width - 12 ? "end" : "middle";
        return (
          <g key={`${m.kind}${m.name}${m.at}`}>
            <title>{`${moment(m.at * 1000)}: ${m.kind} ${m.name} by ${m.by}: ${m.text}`}</title>
            <line x1={here} x2={here} y1={top - 6} y2={top} stroke={colour} strokeWidth={1.5} />
            <line x1={here} x2={here} y1={top} y2={top + height} stroke={colour} strokeOpacity={0.25} strokeDasharray={m.kind === "drill" ? "2 3" : "none"} />
            {hasRoom && <text x={here} y={top - 9} fontSize={11} fontWeight={650} textAnchor={anchor} fill={colour}>{name}</text>}
          </g>
        );
      })}
    </g>
  );
}
