import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { useTheme } from "@mui/material/styles";
import { queries, reportURL, words, type Effect } from "../api/client";
import { clock, moment, percent } from "../kit/format";
import { useIsOfTeam } from "../kit/For";
import { History } from "../kit/History";
import { type } from "../kit/theme";
import { Verdict } from "../kit/Verdict";
import { points, Rows } from "./Rows";

/** The effect of a revision or, with revision 0, of what changed at a moment; with a site, on the requests there. */
export function EffectView({ revision, at, site }: { revision: number; at: number; site: string }) {
  const query = { ...(revision ? { revision } : { at }), ...(site && { site }) };
  const { palette } = useTheme();
  const ofTeam = useIsOfTeam();
  const { data: e, error } = queries.useQuery("get", "/api/v1/effect", { params: { query } }, { refetchInterval: (q) => (q.state.data?.isComplete ? false : 4000) });
  if (!e) return error ? <Alert severity="error">{words(error)}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the effect</Box>;
  const windows = [
    { name: "before", from: e.before.from, to: e.before.from + e.before.seconds, colour: palette.roles.before },
    { name: "after", from: e.after.from, to: e.after.from + e.after.seconds, colour: palette.roles.after },
  ].filter((w) => w.to > w.from);
  const change = Math.floor(Date.parse(e.at) / 1000);
  const [from, to] = [Math.min(change, ...windows.map((w) => w.from)), Math.max(change, ...windows.map((w) => w.to))];
  const service = ofTeam ? e.rows.find((r) => r.kind === "service")?.name : undefined; // a team has no figures of all requests
  const room = Math.max(60, Math.round((to - from) / 4));
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="effect">
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "baseline" }}>
        <Box component="h2" sx={{ typography: "h2", m: 0 }}>{revision ? `Revision ${revision}` : `What changed at ${clock(at)}`}</Box>
        <Box sx={{ color: "text.secondary" }}>{revision > 0 && `${e.message ? `“${e.message}”, ` : ""}${e.kind ?? ""} by ${e.author ?? ""}, ${moment(e.at)}`}</Box>
        {!ofTeam && <Button component="a" href={reportURL("/effect", query)} target="_blank" rel="noopener" sx={{ ml: "auto" }}>Open report</Button>}
      </Box>
      <Headline effect={e} />
      <Box component="ul" sx={{ m: 0, mt: 0.5, pl: 2, color: "text.secondary", fontSize: type.small }} data-test="notes">
        <li>
          Compared: {e.before.seconds} s before with {e.after.seconds} s after; the first {e.settle} s after the change are left out.
          {!e.isComplete && e.due && ` The window after is full at ${moment(e.due)}; figures can change until then.`}
          {e.site && ` Only requests made or answered at site ${e.site}.`}
        </li>
        {e.notes.map((n) => <li key={n}>{n}</li>)}
      </Box>
      {(service || !ofTeam) && (
        <Box sx={{ my: 1.5 }}>
          {service && <Box sx={{ mb: 0.5 }}>Service <strong>{service}</strong></Box>}
          <History of={{ ...(service && { service }), ...(site && { site }) }} long={to - from + 2 * room} end={to + room} shades={windows} />
        </Box>
      )}
      <Rows rows={e.rows} before="before" after="after" />
    </Paper>
  );
}

function Headline({ effect: e }: { effect: Effect }) {
  const ofTeam = useIsOfTeam();
  const whole = e.rows.find((r) => r.kind === "mesh");
  const worst = e.rows.find((r) => r.verdict === "worse" && r.kind !== "mesh");
  if (e.rows.length === 0) return <Box sx={{ my: 0.5 }}>No requests.</Box>;
  return (
    <Box sx={{ my: 0.75, fontSize: type.head }} data-test="headline">
      {whole && <Verdict of={whole.verdict} />}
      {whole && (whole.verdict === "too few requests" ? ": each side needs 30." : `: success of all requests${e.site ? ` at site ${e.site}` : ""} ${percent(whole.success.before)} → ${percent(whole.success.after)}, ${points(whole.success)} points.`)}
      {ofTeam && "Figures of what you see; those of all requests are for the platform."}
      {worst && <> Worst: {worst.kind} <strong>{worst.name}</strong>, {points(worst.success)}{worst.reasons?.[0] && worst.reasons[0].share.verdict === "worse" ? `, by ${worst.reasons[0].reason}` : ""}.</>}
    </Box>
  );
}
