import { keepPreviousData, useQuery } from "@tanstack/react-query";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Slider from "@mui/material/Slider";
import { useTheme } from "@mui/material/styles";
import { memo, useMemo } from "react";
import { api, take, type Mark, type Timeline } from "../api/client";
import { useAddress } from "./address";
import { clock, percent, plural } from "./format";
import { useIsOfTeam } from "./For";
import { markName } from "./marks";
import { useRange } from "./range";

const height = 46;

/** How often the bars are read again, in ms. */
const pace = (seconds: number): number => (seconds <= 900 ? 5000 : 30_000);

/** Requests of the time that the page shows, with revisions and drills; the handle chooses a moment. People of a team have none: it counts all requests. */
export function TimeBar() {
  return useIsOfTeam() ? null : <WholeBar />;
}

const WholeBar = memo(function WholeBar() {
  const range = useRange();
  const [, change] = useAddress();
  const onAt = (at: number) => change({ at: at ? String(at) : null });
  const { data: value } = useQuery({
    queryKey: ["bar", range.history],
    queryFn: ({ signal }) => take(api.GET("/api/v1/timeline", { params: { query: { from: Math.floor(Date.now() / 1000) - range.history } }, signal })),
    refetchInterval: pace(range.history), placeholderData: keepPreviousData, structuralSharing: false,
  });
  if (!value) return <Box sx={{ height: height + 30 }} />;
  const { at } = range;
  const step = Math.max(1, value.step);
  return (
    <Box sx={{ display: "flex", gap: 1.5, alignItems: "center" }} data-test="timebar">
      <Box sx={{ position: "relative", flex: 1, minWidth: 0, pb: "20px" }}>
        <Bars timeline={value} at={at} />
        <Slider
          size="small" track={false} aria-label="Moment that the page shows" getAriaValueText={() => (at ? clock(at) : "now")}
          min={Math.min(value.from + step, at || value.to)} max={value.to} step={step} value={at || value.to}
          onChange={(_, chosen) => onAt(chosen > value.to - step ? 0 : chosen)}
          sx={{ position: "absolute", left: 0, bottom: 0, width: "100%", p: 0, height: 18, color: "warning.main", "& .MuiSlider-rail": { opacity: 0.18, height: 3 }, "& .MuiSlider-thumb": { width: 14, height: 14 } }}
        />
      </Box>
      <Button variant={at ? "contained" : "outlined"} disabled={!at} onClick={() => onAt(0)} data-test="live" sx={{ minWidth: 118 }}>
        {at ? `${clock(at)}, back to now` : "Now"}
      </Button>
    </Box>
  );
});

const Bars = memo(function Bars({ timeline, at }: { timeline: Timeline; at: number }) {
  const { palette } = useTheme();
  const { from, to, step, points, marks } = timeline;
  const most = useMemo(() => Math.max(1, ...points.map((p) => p.ok + p.failed + p.refused)), [points]);
  const long = Math.max(1, to - from);
  const x = (t: number) => (100 * (t - from)) / long;
  const wide = (100 * step) / long;
  return (
    <Box component="svg" width="100%" height={height} sx={{ display: "block", overflow: "visible" }} role="img" aria-label={`Requests from ${clock(from)} to ${clock(to)}`}>
      <defs>
        <pattern id="bar-failed" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill={palette.error.main} />
          <rect width="1.6" height="5" fill={palette.background.default} />
        </pattern>
      </defs>
      <line x1="0" x2="100%" y1={height - 0.5} y2={height - 0.5} stroke={palette.divider} />
      {points.map((p) => {
        const all = p.ok + p.failed + p.refused;
        const bad = p.failed + p.refused;
        const tall = (all / most) * (height - 10);
        const low = bad > 0 ? Math.max(2, (bad / most) * (height - 10)) : 0;
        return (
          <g key={p.at}>
            <title>{`${clock(p.at)}: ${plural(all, "request")} in ${step} s, success ${percent(p.success)}`}</title>
            <rect x={`${x(p.at)}%`} width={`${wide * 0.86}%`} y={height - tall} height={tall} fill={palette.primary.main} fillOpacity={0.42} />
            {low > 0 && <rect x={`${x(p.at)}%`} width={`${wide * 0.86}%`} y={height - low} height={low} fill="url(#bar-failed)" />}
          </g>
        );
      })}
      {marks.map((m, i) => {
        const next = marks[i + 1]; // of two marks that are close, only the later one has a label
        return <MarkLine key={`${m.kind}${m.name}`} mark={m} x={x(m.at)} end={m.ends ? Math.min(100, x(m.ends)) : 0} isNamed={!next || x(next.at) - x(m.at) > room(m) + room(next)} />;
      })}
      {at >= from && <line x1={`${x(at)}%`} x2={`${x(at)}%`} y1={0} y2={height} stroke={palette.warning.main} strokeWidth={2} />}
    </Box>
  );
});

/** Half of the width of a mark's name, in percent of the bar. */
const room = (m: Mark): number => 0.3 + markName(m).length * 0.36;

/** A revision is an upright line with its number, a drill a bar over its time. */
function MarkLine({ mark: m, x, end, isNamed }: { mark: Mark; x: number; end: number; isNamed: boolean }) {
  const { palette } = useTheme();
  return (
    <g data-test={`mark-${m.kind}-${m.name}`}>
      <title>{`${clock(m.at)}: ${m.kind === "drill" ? "drill" : "revision"} ${m.name} by ${m.by}: ${m.text}`}</title>
      {end > 0 && <rect x={`${x}%`} width={`${Math.max(0.3, end - x)}%`} y={height - 4} height={4} fill={palette.warning.main} />}
      <line x1={`${x}%`} x2={`${x}%`} y1={8} y2={height} stroke={palette.text.primary} strokeWidth={1.2} strokeDasharray={m.kind === "drill" ? "2 3" : undefined} />
      {isNamed && (
        <text x={`${x}%`} y={7} fontSize={11} fontWeight={650} textAnchor={x > 95 ? "end" : x < 3 ? "start" : "middle"} fill={palette.text.primary} stroke={palette.background.default} strokeWidth={3} paintOrder="stroke">
          {markName(m)}
        </text>
      )}
    </g>
  );
}
