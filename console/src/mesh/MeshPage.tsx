import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import CircularProgress from "@mui/material/CircularProgress";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import Switch from "@mui/material/Switch";
import TextField from "@mui/material/TextField";
import { memo, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Mesh } from "../api/client";
import { useAddress, type Change } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { clock, plural, rate } from "../kit/format";
import { NoProxies } from "../kit/NoProxies";
import { PageHeader } from "../kit/PageHeader";
import { useMeshView, useRange } from "../kit/range";
import { TimeBar } from "../kit/TimeBar";
import { Card, heightOf, textOf } from "./Card";
import { crowd, flowOf, waysToGroup } from "./flow";
import { cardWidth, planOf, ribbonsOf, type Ribbon } from "./layout";
import { largest, Legend, smallest } from "./Legend";
import { Panel } from "./Panel";
import { Ribbons } from "./Ribbons";
import { flowBySite } from "./bySite";
import { usePan } from "./usePan";

/** The flow of requests, left to right by call depth, in the time that the page shows. */
export function MeshPage() {
  const { mesh, error } = useMeshView();
  const range = useRange();
  const [params, change] = useAddress();
  const by = params.get("by") ?? (mesh && mesh.services.length > crowd && mesh.services.some((s) => s.owner) ? "owner" : "service");
  const opened = params.get("open") ?? "";
  const [typed, setTyped] = useState(params.get("q") ?? ""); // the address is updated a little later than the field
  const chosen = params.get("pick");
  const ways = mesh ? waysToGroup(mesh) : [];
  const hasBands = params.get("bands") === "site" && by === "service" && ways.includes("site");
  const span = range.at ? `the ${mesh?.window ?? 0} s before ${clock(range.at)}` : range.span ? `the ${range.label.toLowerCase()}` : `the last ${mesh?.window ?? 0} s`;
  return (
    <>
      <Head
        about={mesh ? `${rate(mesh.gateways.reduce((sum, g) => sum + g.figures.rps, 0))} requests per second enter the mesh; figures of ${span}.` : ""}
        ways={[...new Set([...ways, by])].join("|")} by={by} site={range.site} hasBands={hasBands} typed={typed} onType={setTyped} change={change}
      />
      <TimeBar />
      {error && <Alert severity="error">{error}</Alert>}
      {!mesh && !error && <Waiting />}
      {mesh && mesh.services.length === 0 && <NoProxies />}
      {mesh && mesh.services.length > 0 && <Picture mesh={mesh} by={by} hasBands={hasBands} opened={opened} search={typed} chosen={chosen} change={change} />}
      {mesh && chosen && <Panel mesh={mesh} chosen={chosen} by={by} opened={opened} change={change} />}
    </>
  );
}

interface HeadProps {
  about: string;
  /** The ways to group, with | between them. */
  ways: string;
  by: string;
  site: string;
  hasBands: boolean;
  typed: string;
  onType: (text: string) => void;
  change: (parts: Change) => void;
}

/** The head of the page. It is not drawn again with every second of figures. */
const Head = memo(function Head({ about, ways, by, site, hasBands, typed, onType, change }: HeadProps) {
  const list = ways.split("|");
  return (
    <PageHeader
      title="Mesh" about={about && <span data-test="incoming">{about}</span>}
      actions={
        <>
          <CopyAsCommand line={`nightjar services${site && ` --site ${shellWord(site)}`}`} />
          <TextField label="Find a service" value={typed} onChange={(e) => { onType(e.target.value); change({ q: e.target.value }); }} sx={{ width: 160 }} slotProps={{ htmlInput: { "data-test": "search" } }} />
          {list.includes("site") && by === "service" && (
            <FormControlLabel control={<Switch size="small" checked={hasBands} onChange={(e) => change({ bands: e.target.checked ? "site" : null, pick: null })} data-test="bands" />} label="Site bands" sx={{ ml: 0 }} />
          )}
          {about && (
            <TextField select label="Group by" value={by} onChange={(e) => change({ by: e.target.value, open: null, pick: null })} sx={{ width: 140 }} data-test="by">
              {list.map((w) => <MenuItem key={w} value={w}>{w}</MenuItem>)}
            </TextField>
          )}
        </>
      }
    />
  );
});

interface PictureProps {
  mesh: Mesh;
  by: string;
  /** Each site has a band with cards of its own. */
  hasBands: boolean;
  opened: string;
  search: string;
  chosen: string | null;
  change: (parts: Change) => void;
}

function Picture({ mesh, by, hasBands, opened, search, chosen, change }: PictureProps) {
  const box = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState({ width: 0, height: 0 });
  const [zoom, setZoom] = useState<number | null>(null); // null: as large as fits
  const [{ whole, bySite }] = useState(() => ({ whole: new Set<string>(), bySite: new Set<string>() })); // links that had requests, by the ids of their cards
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => setRoom({ width: element.clientWidth, height: Math.max(320, window.innerHeight - element.getBoundingClientRect().top - window.scrollY - 52) });
    const watch = new ResizeObserver(measure);
    watch.observe(element);
    window.addEventListener("resize", measure);
    return () => {
      watch.disconnect();
      window.removeEventListener("resize", measure);
    };
  }, []);
  const flow = useMemo(() => (hasBands ? flowBySite(mesh, bySite) : flowOf(mesh, whole, by, new Set(opened.split("|")))), [mesh, whole, bySite, by, opened, hasBands]);
  // The plan holds as long as the same cards call the same cards.
  const shape = JSON.stringify([room, flow.nodes.map((n) => [n.id, heightOf(n), n.band]), flow.links.map((l) => [l.from, l.to]), flow.possible]);
  const plan = useMemo(() => {
    const [within, cards, links, possible] = JSON.parse(shape) as [typeof room, [string, number, string][], [string, string][], [string, string][]];
    const planFor = (width: number) => planOf(cards.map(([id, height, band]) => ({ id, height, band })), [...links, ...possible], links.map(([from, to]) => ({ id: `${from}~${to}`, from, to })), width);
    const first = planFor(within.width);
    const larger = Math.min(largest, within.height / first.height);
    return planFor(within.width / Math.max(smallest, larger)); // it is enlarged or reduced to fit the height, and fills the width then
  }, [shape]);
  const fit = Math.max(smallest, Math.min(largest, room.width / Math.max(1, plan.width), room.height / Math.max(1, plan.height)));
  const scale = zoom ?? fit;
  const ribbons = useMemo(() => ribbonsOf(flow, plan), [flow, plan]);
  const choose = useCallback((id: string) => change({ pick: id === chosen ? null : id }), [change, chosen]);
  const wanted = search.trim().toLowerCase();
  const found = useMemo(
    () => new Set(flow.nodes.filter((n) => !wanted || n.id.toLowerCase().includes(wanted) || n.members.some((m) => m.toLowerCase().includes(wanted))).map((n) => n.id)),
    [flow, wanted],
  );
  // In a large picture what is picked or looked for may be far away.
  const goal = chosen && !chosen.includes("~") ? chosen : wanted && found.size < flow.nodes.length ? [...found][0] : undefined;
  const drawn = plan.spots.size > 0 && room.width > 0;
  useEffect(() => {
    if (goal && drawn) box.current?.querySelector(`[data-test=${CSS.escape(`card-${goal}`)}]`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [goal, drawn]);
  const faded = useCallback(
    (r: Ribbon) => (wanted !== "" && !found.has(r.from) && !found.has(r.to)) || (flow.links.length > 80 && chosen !== null && r.id !== chosen && r.from !== chosen && r.to !== chosen),
    [wanted, found, flow, chosen],
  );
  const pan = usePan(box);
  return (
    <>
      <Box ref={box} {...pan} sx={{ overflow: "auto", py: 1, maxHeight: Math.max(room.height, 320), ...looks }} tabIndex={0} role="region" aria-label="Picture of the mesh" data-test="mesh">
        {drawn && (
          <Box sx={{ width: plan.width * scale, height: plan.height * scale }}>
            <Box sx={{ position: "relative", width: plan.width, height: plan.height, minHeight: 60, transform: `scale(${scale})`, transformOrigin: "0 0" }}>
              {plan.bands.map((b) => <div key={b.name} className="band" data-test={`band-${b.name || "none"}`} style={{ top: b.y, height: b.height }}>{b.name || "no site"}</div>)}
              <Ribbons ribbons={ribbons} width={plan.width} height={plan.height} chosen={chosen} faded={faded} onChoose={choose} />
              {flow.nodes.map((n) => {
                const spot = plan.spots.get(n.id);
                return spot && <Card key={n.id} text={textOf(n)} spot={spot} chosen={n.id === chosen} faded={!found.has(n.id)} onChoose={choose} />;
              })}
            </Box>
          </Box>
        )}
        {wanted && found.size === 0 && <Box sx={{ color: "text.secondary" }}>No card has “{search}” in its name; {plural(flow.nodes.length, "card")} in all.</Box>}
      </Box>
      <Legend scale={scale} isFit={zoom === null} onZoom={setZoom} />
    </>
  );
}

/** The looks of cards, once for all of them: hundreds are drawn anew every second. */
const looks = {
  "& .band": { position: "absolute", left: 0, right: 0, px: 1, fontSize: 12, lineHeight: "20px", color: "text.secondary", bgcolor: "action.hover", borderTop: 1, borderColor: "divider" },
  "& .card": {
    position: "absolute", width: cardWidth, p: 0, contain: "strict", contentVisibility: "auto", // what changes in one card concerns no other, and what nobody sees costs nothing
    font: "inherit", textAlign: "left", color: "text.primary", overflow: "hidden", cursor: "pointer", display: "flex", flexDirection: "column",
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
    "& .name > :first-of-type": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", minWidth: 0 },
    "& .share": { flex: "none", pl: 0.5 },
    "& .share, & em": { color: "text.secondary", fontStyle: "normal" },
    "& em.none": { color: "error.main" },
    "& .bar": { display: "block", position: "relative", height: 9, bgcolor: "action.hover", borderRadius: 0.5 },
    "& .got": { display: "block", height: "100%", borderRadius: 0.5 },
    "& .mark": { position: "absolute", top: -2.5, width: 2.5, height: 14, bgcolor: "text.primary" },
    "& .sites": {
      display: "flex", mt: "auto", height: 16, fontSize: 10, lineHeight: "15px", color: "text.secondary", borderTop: 1, borderColor: "divider",
      "& span": { flexBasis: 0, minWidth: 0, px: 0.75, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
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
