import Box from "@mui/material/Box";
import CircularProgress from "@mui/material/CircularProgress";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useTheme } from "@mui/material/styles";
import { useLayoutEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { useLive } from "../api/live";
import { FiguresLine } from "../parts/FiguresLine";
import { percent, rate } from "../parts/format";
import { Card } from "./Card";
import { layOut, type Ribbon } from "./layout";

/** The flow of requests, left to right by call depth. */
export function MeshPage() {
  const { mesh } = useLive();
  const [params, setParams] = useSearchParams();
  const box = useRef<HTMLDivElement>(null);
  const [available, setAvailable] = useState(0);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setAvailable(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  const picture = useMemo(() => (mesh && available > 0 ? layOut(mesh, available) : null), [mesh, available]);
  const chosen = params.get("link");
  const selected = picture?.ribbons.find((r) => r.id === chosen);
  const choose = (id: string) => setParams(id === chosen ? {} : { link: id }, { replace: true });
  const total = mesh?.gateways.reduce((sum, g) => sum + g.figures.rps, 0) ?? 0;
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">Mesh</Typography>
        {mesh && (
          <Box sx={{ color: "text.secondary" }}>
            {rate(total)} requests a second come in; figures of the last {mesh.window} s. In a lane the bar is what a version got, the upright mark what the rules intend.
          </Box>
        )}
      </Box>
      <Box ref={box} sx={{ overflowX: "auto", pb: 1 }} data-test="mesh">
        {!mesh && <Waiting />}
        {mesh && mesh.services.length === 0 && (
          <Typography sx={{ color: "text.secondary" }}>
            Nothing runs yet. Start a proxy beside a workload: <code>nightjar proxy --service NAME --version v1 --app HOST:PORT</code>
          </Typography>
        )}
        {picture && (
          <Box sx={{ position: "relative", width: picture.width, height: picture.height, minHeight: 60 }}>
            <Ribbons ribbons={picture.ribbons} width={picture.width} height={picture.height} chosen={chosen} onChoose={choose} />
            {picture.nodes.map((n) => <Card key={n.id} node={n} />)}
          </Box>
        )}
      </Box>
      {chosen && (
        <Paper variant="outlined" sx={{ p: 1.5, mt: 1 }} data-test="link">
          <Box sx={{ fontWeight: 650, mb: 0.5 }}>{chosen.replace("~", " → ")}</Box>
          {selected ? <FiguresLine figures={selected.figures} /> : <Box sx={{ color: "text.secondary" }}>no requests in this window</Box>}
        </Paper>
      )}
    </>
  );
}

function Waiting() {
  return (
    <Box sx={{ display: "flex", gap: 1.5, alignItems: "center", color: "text.secondary", py: 4 }}>
      <CircularProgress size={18} /> Waiting for the service
    </Box>
  );
}

interface RibbonsProps {
  ribbons: Ribbon[];
  width: number;
  height: number;
  chosen: string | null;
  onChoose: (id: string) => void;
}

function Ribbons({ ribbons, width, height, chosen, onChoose }: RibbonsProps) {
  const { palette } = useTheme();
  const water = palette.mode === "dark" ? "#3f7f8c" : "#8fb8bd";
  return (
    <Box
      component="svg"
      width={width}
      height={height}
      sx={{
        position: "absolute", inset: 0, overflow: "visible",
        "& .flow": { animation: "flow 1.6s linear infinite" },
        "@keyframes flow": { to: { strokeDashoffset: -28 } },
        "@media (prefers-reduced-motion: reduce)": { "& .flow": { animation: "none" } },
        "& g:focus-visible": { outline: "none" },
        "& g:focus-visible .whole, & g:hover .whole": { fillOpacity: 0.95 },
      }}
    >
      <defs>
        <pattern id="failed" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill={palette.error.main} />
          <rect width="2" height="6" fill={palette.background.default} />
        </pattern>
      </defs>
      {ribbons.map((r) => (
        <g
          key={r.id}
          role="button"
          tabIndex={0}
          data-test={`ribbon-${r.id}`}
          aria-pressed={r.id === chosen}
          aria-label={`${r.from} to ${r.to}: ${rate(r.figures.rps)} a second, success ${percent(r.figures.success)}`}
          style={{ cursor: "pointer" }}
          onClick={() => onChoose(r.id)}
          onKeyDown={(e) => {
            if (e.key === "Enter" || e.key === " ") {
              e.preventDefault();
              onChoose(r.id);
            }
          }}
        >
          <path d={r.centre} fill="none" stroke="transparent" strokeWidth={18} />
          <path className="whole" d={r.whole} fill={water} fillOpacity={r.id === chosen ? 0.95 : 0.55} stroke={r.id === chosen ? palette.text.primary : "none"} />
          {r.failed && <path d={r.failed} fill="url(#failed)" />}
          {r.wide && <path className="flow" d={r.centre} fill="none" stroke={palette.background.paper} strokeOpacity={0.8} strokeWidth={1.5} strokeDasharray="4 10" />}
          <text x={r.label.x} y={r.label.y - 6} textAnchor="middle" fontSize={11.5} fontWeight={600} fill={palette.text.primary} stroke={palette.background.default} strokeWidth={3} paintOrder="stroke">
            {rate(r.figures.rps)}/s
          </text>
        </g>
      ))}
    </Box>
  );
}
