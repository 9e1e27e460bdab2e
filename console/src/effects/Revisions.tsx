import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { readEffect, readEffects, reportURL, type Effect, type EffectSummary } from "../api/client";
import { clock, percent, timeOfDay } from "../parts/format";
import { ListEntry } from "../parts/ListEntry";
import { TimeBar } from "../parts/TimeBar";
import { usePolled } from "../parts/usePolled";
import { useQuery } from "../parts/useQuery";
import History from "../service/History";
import { points, Rows, Verdict } from "./Rows";

/** The effects of revisions: a list, and one in full. A moment on the time bar can be compared too. */
export function Revisions() {
  const [params, change] = useQuery();
  const { value: list, error } = usePolled("effects", 3000, (signal) => readEffects(60, signal));
  const at = Number(params.get("at") ?? 0);
  const revision = at ? 0 : Number(params.get("revision") ?? 0) || (list?.[0]?.revision ?? 0);
  return (
    <>
      <TimeBar query={{}} at={at} onAt={(t) => change({ at: t ? String(t) : null, revision: null })} />
      {error && !list && <Alert severity="error">{error}</Alert>}
      {list?.length === 0 && <Box sx={{ color: "text.secondary", my: 2 }}>Nothing was published yet. Published revisions are listed here with their effects. You can also compare a moment on the time bar.</Box>}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" }, mt: 1 }}>
        <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 220, lg: 760 }, overflowY: "auto" }} data-test="effects">
          {(list ?? []).map((h) => (
            <Box component="li" key={h.revision}>
              <Head head={h} picked={h.revision === revision} onPick={() => change({ revision: String(h.revision), at: null })} />
            </Box>
          ))}
        </Box>
        {(revision > 0 || at > 0) && <EffectView key={`${revision} ${at}`} revision={revision} at={at} />}
      </Box>
    </>
  );
}

function Head({ head: h, picked, onPick }: { head: EffectSummary; picked: boolean; onPick: () => void }) {
  return (
    <ListEntry picked={picked} onPick={onPick} test={`effect-${h.revision}`}>
      <Box sx={{ display: "flex", gap: 1, alignItems: "baseline" }}>
        <strong>r{h.revision}</strong>
        <Box component="time" dateTime={h.at} title={h.at} sx={{ color: "text.secondary", fontSize: 12 }}>{timeOfDay(h.at)}</Box>
        <Box sx={{ ml: "auto" }}>{h.isComplete ? <Verdict of={h.verdict ?? "too few requests"} /> : <Box component="span" sx={{ color: "text.secondary" }}>{h.due ? `complete at ${timeOfDay(h.due)}` : "soon"}</Box>}</Box>
      </Box>
      <Box sx={{ fontSize: 12.5, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>{h.message || h.kind} <Box component="span" sx={{ color: "text.secondary" }}>by {h.author}</Box></Box>
      {h.isComplete && (h.worse > 0 || h.better > 0) && <Box sx={{ fontSize: 12, color: "text.secondary" }}>{[h.worse > 0 && `${h.worse} worse`, h.better > 0 && `${h.better} better`].filter(Boolean).join(", ")}{h.worst && `; worst: ${h.worst}`}</Box>}
    </ListEntry>
  );
}

function EffectView({ revision, at }: { revision: number; at: number }) {
  const query = revision ? { revision } : { at };
  const { value: e, error } = usePolled(`effect ${revision} ${at}`, 4000, (signal) => readEffect(query, signal));
  if (!e) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the effect</Box>;
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="effect">
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "baseline" }}>
        <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>{revision ? `Revision ${revision}` : `What changed at ${clock(at)}`}</Box>
        <Box sx={{ color: "text.secondary" }}>{revision > 0 && `${e.message ? `“${e.message}”, ` : ""}${e.kind ?? ""} by ${e.author ?? ""}, ${timeOfDay(e.at)}`}</Box>
        <Button size="small" component="a" href={reportURL("/effect", query)} target="_blank" rel="noopener" sx={{ ml: "auto" }}>Open report</Button>
      </Box>
      <Headline effect={e} />
      <Box component="ul" sx={{ m: 0, mt: 0.5, pl: 2, color: "text.secondary", fontSize: 12.5 }} data-test="notes">
        <li>
          Compared: {e.before.seconds} s before with {e.after.seconds} s after; the first {e.settle} s after the change are left out.
          {!e.isComplete && e.due && ` The window after is full at ${timeOfDay(e.due)}; figures can change until then.`}
        </li>
        {e.notes.map((n) => <li key={n}>{n}</li>)}
      </Box>
      <Box sx={{ my: 1.5 }}><History query={{}} /></Box>
      <Rows rows={e.rows} before="before" after="after" />
    </Paper>
  );
}

function Headline({ effect: e }: { effect: Effect }) {
  const whole = e.rows.find((r) => r.kind === "mesh");
  const worst = e.rows.find((r) => r.verdict === "worse" && r.kind !== "mesh");
  if (!whole) return <Box sx={{ my: 0.5 }}>No requests.</Box>;
  return (
    <Box sx={{ my: 0.75, fontSize: 15 }} data-test="headline">
      <Verdict of={whole.verdict} />
      {whole.verdict === "too few requests" ? ": each side needs 30." : `: success of all requests ${percent(whole.success.before)} → ${percent(whole.success.after)}, ${points(whole.success)} points.`}
      {worst && <> Worst: {worst.kind} <strong>{worst.name}</strong>, {points(worst.success)}{worst.reasons?.[0] && worst.reasons[0].share.verdict === "worse" ? `, by ${worst.reasons[0].reason}` : ""}.</>}
    </Box>
  );
}
