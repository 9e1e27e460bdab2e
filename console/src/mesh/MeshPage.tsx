import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import CircularProgress from "@mui/material/CircularProgress";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { readMeshAt, type Mesh } from "../api/client";
import { useLive } from "../api/live";
import { clock, plural, rate } from "../parts/format";
import { TimeBar } from "../parts/TimeBar";
import { usePolled } from "../parts/usePolled";
import { useQuery } from "../parts/useQuery";
import { Card, heightOf, textOf } from "./Card";
import { cardWidth, planOf, ribbonsOf, screen, type Ribbon } from "./layout";
import { crowd, flowOf, waysToGroup } from "./flow";
import { Panel } from "./Panel";
import { Ribbons } from "./Ribbons";

const everything = {};
const never = 3_600_000;

/** The flow of requests, left to right by call depth, now or at a moment of the last 15 minutes. */
export function MeshPage() {
  const { mesh: live } = useLive();
  const [params, set] = useQuery();
  const at = Number(params.get("at") ?? 0) || 0;
  const past = usePolled(`mesh ${at}`, never, async (signal) => (at ? readMeshAt(at, signal) : null));
  const mesh = at ? past.value : live;
  const by = params.get("by") ?? (live && live.services.length > crowd && live.services.some((s) => s.owner) ? "owner" : "service");
  const opened = params.get("open") ?? "";
  const [typed, setTyped] = useState(params.get("q") ?? ""); // the address is updated a little later than the field
  const chosen = params.get("pick");
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "center", flexWrap: "wrap", columnGap: 2, rowGap: 1, mb: 1 }}>
        <Typography variant="h1">Mesh</Typography>
        {mesh && (
          <Box sx={{ color: "text.secondary", flex: 1, minWidth: 260 }} data-test="incoming">
            {rate(mesh.gateways.reduce((sum, g) => sum + g.figures.rps, 0))} requests per second enter the mesh; figures of {at ? `the ${mesh.window} s before ${clock(at)}` : `the last ${mesh.window} s`}.
          </Box>
        )}
        <TextField size="small" label="Find a service" value={typed} onChange={(e) => { setTyped(e.target.value); set({ q: e.target.value }); }} sx={{ width: 170 }} slotProps={{ htmlInput: { "data-test": "search" } }} />
        {live && (
          <TextField select size="small" label="Group by" value={by} onChange={(e) => set({ by: e.target.value, open: null, pick: null })} sx={{ width: 150 }} data-test="by">
            {[...new Set([...waysToGroup(live), by])].map((w) => <MenuItem key={w} value={w}>{w}</MenuItem>)}
          </TextField>
        )}
      </Box>
      <TimeBar query={everything} at={at} onAt={(t) => set({ at: t ? String(t) : null })} />
      {past.error && <Alert severity="error">{past.error}</Alert>}
      {!mesh && !past.error && <Waiting />}
      {mesh && mesh.services.length === 0 && (
        <Typography sx={{ color: "text.secondary" }}>
          No proxy has registered. Start a proxy beside a workload: <code>nightjar proxy --service NAME --version v1 --app HOST:PORT</code>
        </Typography>
      )}
      {mesh && <Picture mesh={mesh} by={by} opened={opened} search={typed} chosen={chosen} set={set} />}
      {mesh && chosen && <Panel mesh={mesh} chosen={chosen} at={at} by={by} opened={opened} set={set} />}
    </>
  );
}

interface PictureProps {
  mesh: Mesh;
  by: string;
  opened: string;
  search: string;
  chosen: string | null;
  set: (change: Record<string, string | null>) => void;
}

function Picture({ mesh, by, opened, search, chosen, set }: PictureProps) {
  const box = useRef<HTMLDivElement>(null);
  const [available, setAvailable] = useState(0);
  const [seen] = useState(() => new Set<string>());
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setAvailable(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  const flow = useMemo(() => flowOf(mesh, seen, by, new Set(opened.split("|"))), [mesh, seen, by, opened]);
  // The plan holds as long as the same cards call the same cards.
  const shape = JSON.stringify([available, flow.nodes.map((n) => [n.id, heightOf(n)]), flow.links.map((l) => [l.from, l.to]), flow.possible]);
  const plan = useMemo(() => {
    const [wide, cards, links, possible] = JSON.parse(shape) as [number, [string, number][], [string, string][], [string, string][]];
    return planOf(cards.map(([id, height]) => ({ id, height })), [...links, ...possible], links.map(([from, to]) => ({ id: `${from}~${to}`, from, to })), wide);
  }, [shape]);
  const ribbons = useMemo(() => ribbonsOf(flow, plan), [flow, plan]);
  const choose = useCallback((id: string) => set({ pick: id === chosen ? null : id }), [set, chosen]);
  const wanted = search.trim().toLowerCase();
  const found = useMemo(
    () => new Set(flow.nodes.filter((n) => !wanted || n.id.toLowerCase().includes(wanted) || n.members.some((m) => m.toLowerCase().includes(wanted))).map((n) => n.id)),
    [flow, wanted],
  );
  // In a large picture what is picked or looked for may be far away.
  const goal = chosen && !chosen.includes("~") ? chosen : wanted && found.size < flow.nodes.length ? [...found][0] : undefined;
  const drawn = plan.spots.size > 0 && available > 0;
  useEffect(() => {
    if (goal && drawn) box.current?.querySelector(`[data-test=${CSS.escape(`card-${goal}`)}]`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [goal, drawn]);
  const faded = useCallback(
    (r: Ribbon) => (wanted !== "" && !found.has(r.from) && !found.has(r.to)) || (flow.links.length > 80 && chosen !== null && r.id !== chosen && r.from !== chosen && r.to !== chosen),
    [wanted, found, flow, chosen],
  );
  return (
    <Box ref={box} sx={{ overflow: "auto", py: 1, ...(plan.height > screen ? { maxHeight: "64vh" } : {}), ...looks }} data-test="mesh">
      {available > 0 && (
        <Box sx={{ position: "relative", width: plan.width, height: plan.height, minHeight: 60 }}>
          <Ribbons ribbons={ribbons} width={plan.width} height={plan.height} chosen={chosen} faded={faded} onChoose={choose} />
          {flow.nodes.map((n) => {
            const spot = plan.spots.get(n.id);
            return spot && <Card key={n.id} text={textOf(n)} spot={spot} chosen={n.id === chosen} faded={!found.has(n.id)} onChoose={choose} />;
          })}
        </Box>
      )}
      {wanted && found.size === 0 && <Typography sx={{ color: "text.secondary" }}>No card has “{search}” in its name; {plural(flow.nodes.length, "card")} in all.</Typography>}
    </Box>
  );
}

/** The looks of cards, once for all of them: hundreds are drawn anew every second. */
const looks = {
  "& .card": {
    position: "absolute", width: cardWidth, p: 0, font: "inherit", textAlign: "left", color: "text.primary", overflow: "hidden", cursor: "pointer", display: "flex", flexDirection: "column",
    bgcolor: "background.paper", border: 1, borderStyle: "solid", borderColor: "divider", borderRadius: 1.5, transition: "top .3s, left .3s, opacity .2s",
    "&:hover, &:focus-visible": { borderColor: "primary.main", outline: "none", boxShadow: 2 },
    "&.chosen": { borderColor: "text.primary", boxShadow: 3 },
    "&.dashed": { borderStyle: "dashed" },
    "&.group": { borderStyle: "double", borderWidth: 3 },
    "&.failing": { borderColor: "error.main" },
    "&.faded": { opacity: 0.25 },
    "& .top, & .under": { display: "flex", justifyContent: "space-between", gap: 0.75, px: 1.25, whiteSpace: "nowrap" },
    "& .top": { pt: 0.9, "& b": { fontWeight: 650, overflow: "hidden", textOverflow: "ellipsis" }, "& i": { fontStyle: "normal", fontWeight: 600 } },
    "& .under": { color: "text.secondary", fontSize: 12, height: 25 },
    "&.failing .success": { color: "error.main", fontWeight: 650 },
    "& .lane": { display: "block", height: 34, px: 1.25, "& b": { fontWeight: 600, color: "text.primary" } },
    "& .name": { display: "flex", justifyContent: "space-between", fontSize: 11.5, lineHeight: "17px" },
    "& .share, & em": { color: "text.secondary", fontStyle: "normal" },
    "& em.none": { color: "error.main" },
    "& .bar": { display: "block", position: "relative", height: 9, bgcolor: "action.hover", borderRadius: 0.5 },
    "& .got": { display: "block", height: "100%", borderRadius: 0.5, transition: "width .4s" },
    "& .mark": { position: "absolute", top: -2.5, width: 2.5, height: 14, bgcolor: "text.primary" },
    "& .sites": {
      display: "flex", mt: "auto", height: 16, fontSize: 10, lineHeight: "15px", color: "text.secondary", borderTop: 1, borderColor: "divider",
      "& span": { flexBasis: 0, minWidth: 0, px: 0.75, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", transition: "flex-grow .4s" },
      "& span:nth-of-type(even)": { bgcolor: "action.hover", borderLeft: 1, borderColor: "divider" },
    },
  },
} as const;

function Waiting() {
  return (
    <Box sx={{ display: "flex", gap: 1.5, alignItems: "center", color: "text.secondary", py: 4 }}>
      <CircularProgress size={18} /> Waiting for the service
    </Box>
  );
}
