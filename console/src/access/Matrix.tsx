import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import type { AccessLink, AccessMatrix } from "../api/client";
import { type } from "../kit/theme";
import { callerName, describe, stateOf, type State } from "./state";

interface Props {
  access: AccessMatrix;
  from: string | null;
  to: string | null;
  onPick: (link: { from: string; to: string } | null) => void;
}

const hatching = "repeating-linear-gradient(45deg, transparent 0 5px, color-mix(in srgb, currentColor 16%, transparent) 5px 7px)";

/** Callers in rows, services in columns: what rules say, and what happened. */
export function Matrix({ access, from, to, onPick }: Props) {
  const services = [...new Set(access.links.map((l) => l.to))].sort();
  const callers = [...new Set(access.links.map((l) => l.from))].sort((a, b) => order(a) - order(b) || a.localeCompare(b));
  const links = new Map(access.links.map((l) => [`${l.from} ${l.to}`, l]));
  if (services.length === 0) return <Typography sx={{ color: "text.secondary" }}>There were no requests between services, and no rule allows any.</Typography>;
  return (
    <div>
      <Paper variant="outlined" sx={{ overflow: "auto", maxHeight: 560 }} tabIndex={0} role="region" aria-label="Matrix of callers and services">
        <Box component="table" data-test="matrix" sx={{ borderCollapse: "collapse", fontSize: type.small, "& th": { fontWeight: 600, textAlign: "left", px: 1.25, py: 0.75, whiteSpace: "nowrap", bgcolor: "background.paper", position: "sticky" }, "& thead th": { top: 0, zIndex: 1, borderBottom: 1, borderColor: "divider" }, "& tbody th": { left: 0, borderRight: 1, borderColor: "divider" }, "& td": { p: 0, borderBottom: 1, borderColor: "divider" } }}>
          <thead>
            <tr>
              <Box component="th" scope="col" sx={{ left: 0, color: "text.secondary" }}>caller \ service</Box>
              {services.map((s) => <th key={s} scope="col">{s}</th>)}
            </tr>
          </thead>
          <tbody>
            {callers.map((c) => (
              <tr key={c}>
                <th scope="row">{callerName(c)}</th>
                {services.map((s) => <Cell key={s} link={links.get(`${c} ${s}`)} isPicked={from === c && to === s} onPick={onPick} />)}
              </tr>
            ))}
          </tbody>
        </Box>
      </Paper>
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 2.5, rowGap: 0.5, mt: 1, color: "text.secondary" }}>
        {legend.map(([state, text]) => <span key={state}><Mark state={state} /> {text}</span>)}
        <span>Requests of the last {access.days} days.</span>
      </Box>
    </div>
  );
}

const order = (caller: string): number => (caller === "" ? 3 : caller === "nightjar" ? 2 : caller.startsWith("gateway/") ? 0 : 1);

const legend: [State, string][] = [
  ["used", "allowed and used"], ["unused", "allowed, and nobody used it"], ["watched", "would be refused, only watched"], ["refused", "refused"],
];

const marks: Record<State, string> = { used: "●", unused: "○", watched: "◐", refused: "▼", denied: "" };

const Mark = ({ state }: { state: State }) => <Box component="span" aria-hidden sx={{ color: state === "refused" ? "error.main" : state === "watched" ? "warning.main" : "text.primary" }}>{marks[state]}</Box>;

function Cell({ link, isPicked, onPick }: { link: AccessLink | undefined; isPicked: boolean; onPick: Props["onPick"] }) {
  if (!link) return <td />;
  const state = stateOf(link);
  return (
    <td>
      <Box
        component="button" type="button" data-test="cell" data-state={state} aria-pressed={isPicked} onClick={() => onPick(isPicked ? null : link)}
        sx={{
          all: "unset", display: "block", boxSizing: "border-box", width: "100%", minWidth: 92, px: 1.25, py: 0.75, cursor: "pointer", whiteSpace: "nowrap",
          color: state === "refused" ? "error.main" : "text.primary", outline: isPicked ? 2 : 0, outlineStyle: "solid", outlineColor: "primary.main", outlineOffset: -2,
          backgroundImage: state === "refused" ? hatching : "none", "&:hover": { bgcolor: "action.hover" }, "&:focus-visible": { outline: 2, outlineStyle: "solid", outlineColor: "primary.main", outlineOffset: -2 },
        }}
      >
        <Mark state={state} /> {describe(link)}
      </Box>
    </td>
  );
}
