import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import { useState } from "react";
import { Link } from "react-router";
import { readRelease, type Release, type JudgementSide, type StageJudgement } from "../api/client";
import { millis, percent, plural, seconds, timeOfDay } from "../parts/format";
import { usePolled } from "../parts/usePolled";
import { Actions } from "./Actions";
import { OverTime } from "./OverTime";
import { StageRail } from "./StageRail";
import { ReleaseState } from "./ReleaseState";

/** ReleaseView release: its stages, what was judged, and what a person can do. */
export function ReleaseView({ name }: { name: string }) {
  const { value: r, error } = usePolled(`release ${name}`, 700, (signal) => readRelease(name, signal));
  const [picked, setPicked] = useState(-1);
  if (!r) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the release</Box>;
  const list = r.judgements ?? [];
  const shown = list[picked] ?? list.at(-1);
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="release">
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, rowGap: 1, alignItems: "baseline" }}>
        <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>{r.name}</Box>
        <ReleaseState of={r.state} />
        <Box sx={{ color: "text.secondary" }}>
          <Link to={`/services/${r.service}`} style={{ color: "inherit" }}>{r.service}</Link> {r.from} to {r.to}, on {r.places.map((p) => `${p.parent}/${p.route}`).join(", ")}; started at {timeOfDay(r.began)} by {r.startedBy}
        </Box>
        <Box sx={{ ml: "auto" }}><Actions release={r} /></Box>
      </Box>
      {error && <Alert severity="warning" sx={{ my: 1 }}>{error}</Alert>}
      <Status release={r} />
      <StageRail release={r} picked={picked} onPick={(n) => setPicked(n === picked ? -1 : n)} />
      {shown && <Judged judgement={shown} release={r} newest={shown === list.at(-1)} />}
      <OverTime release={r} />
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "1fr", md: "minmax(0, 1.6fr) minmax(0, 1fr)" }, mt: 1.5 }}>
        <Events release={r} />
        <Terms release={r} />
      </Box>
    </Paper>
  );
}

/** What the release does now, or why it has ended. */
function Status({ release: r }: { release: Release }) {
  const over = r.state === "completed" || r.state === "withdrawn";
  let text: string;
  if (over) text = `${r.state === "completed" ? "Completed" : "Withdrawn"} by ${r.by ?? ""} after ${seconds(Date.parse(r.ended ?? r.since) - Date.parse(r.began))}: ${r.why ?? ""}.`;
  else if (r.state === "held") text = `Held by ${r.by ?? ""}: ${r.why ?? ""}.`;
  else if (r.state === "shifting") text = r.isAsking ? "Waiting for the permission of receivers to begin the next stage." : "Proxies are getting the new weights.";
  else if (r.state === "ready") text = "It is about to begin.";
  else if (r.leftSeconds > 0) text = `${r.leftSeconds.toFixed(0)} s left; next judgement in ${r.nextJudgementSeconds.toFixed(0)} s.`;
  else text = `Waiting for ${r.waitedSeconds.toFixed(0)} s beyond its time: the judgement is ${r.last?.verdict ?? "not there yet"}. After ${seconds(1000 * r.patienceSeconds)} the release is withdrawn.`;
  return (
    <Box sx={{ my: 1, fontSize: 15 }} data-test="where">
      {text}{" "}
      {r.requests > 0 && (
        <Box component="span" sx={{ color: "text.secondary", fontSize: 13 }} data-test="cost">
          {r.to} got {plural(r.requests, "request")}; <Box component="span" sx={{ color: r.bad > 0 ? "error.main" : "inherit", fontWeight: 650 }}>{r.bad} failed</Box>, an estimated {r.excess.toFixed(0)} more than with {r.from}.
        </Box>
      )}
    </Box>
  );
}

const cells = { borderCollapse: "collapse", my: 1, width: "100%", fontSize: 13, "& td, & th": { pr: 1.5, py: 0.3, textAlign: "left", verticalAlign: "top", borderBottom: 1, borderColor: "divider" }, "& th": { color: "text.secondary", fontWeight: 600 } } as const;

function Judged({ judgement: j, release: r, newest }: { judgement: StageJudgement; release: Release; newest: boolean }) {
  const side = (name: string, s: JudgementSide, recent: JudgementSide) => (
    <tr>
      <td><strong>{name}</strong></td>
      <td>{s.requests}</td>
      <td>{s.bad}</td>
      <td>{percent(s.success)}</td>
      <Box component="td" sx={{ whiteSpace: "nowrap" }}>{s.p99MS === null ? "–" : millis(s.p99MS)}</Box>
      <Box component="td" sx={{ color: "text.secondary", whiteSpace: "nowrap" }}>{recent.requests === 0 ? "–" : `${recent.requests}, ${percent(recent.success)}`}</Box>
    </tr>
  );
  return (
    <Box data-test="judged" sx={{ overflowX: "auto" }}>
      <Box component="h3" sx={{ m: 0, mt: 0.5, fontSize: 13.5, fontWeight: 650 }}>{newest ? "Last judgement" : "Judgement"} at {timeOfDay(j.at)}, stage {j.stepName}</Box>
      <Box sx={{ display: "grid", columnGap: 3, alignItems: "start", gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "minmax(0, 1.1fr) minmax(0, 1fr)" } }}>
        <Box component="table" sx={cells}>
          <thead><tr><th>Expected</th><th aria-label="Verdict" /><th title={`confidence ${(100 * j.confidence).toFixed(3)}%`}>Measured (interval)</th></tr></thead>
          <tbody>
            {j.findings.map((f) => (
              <tr key={f.expectation + f.over}>
                <Box component="td" sx={{ minWidth: 130 }}>{f.expectation}</Box>
                <Box component="td" sx={{ color: f.verdict === "missed" ? "error.main" : f.verdict === "met" ? "success.main" : "warning.main", fontWeight: 650, whiteSpace: "nowrap" }}>{f.verdict === "missed" ? "▼ " : f.verdict === "met" ? "▲ " : ""}{f.verdict}</Box>
                <td>{f.measured}{f.verdict === "missed" && `, ${f.over}`}</td>
              </tr>
            ))}
          </tbody>
        </Box>
        <Box component="table" sx={cells}>
          <thead><tr><th>Version</th><th>Requests</th><th>Failed</th><th>Success</th><th>p99</th><th title="since the last judgement">Since last</th></tr></thead>
          <tbody>{side(r.to, j.to, j.newTo)}{side(r.from, j.from, j.newFrom)}</tbody>
        </Box>
      </Box>
    </Box>
  );
}

function Events({ release: r }: { release: Release }) {
  return (
    <section aria-label="Events">
      <Box component="h3" sx={{ m: 0, fontSize: 13.5, fontWeight: 650 }}>Events</Box>
      <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: 260, overflowY: "auto", fontSize: 12.5 }} data-test="events">
        {(r.events ?? []).toReversed().map((e, i) => (
          <Box component="li" key={`${e.at}${e.kind}${i}`} sx={{ py: 0.3, borderBottom: 1, borderColor: "divider" }}>
            <Box component="time" dateTime={e.at} title={e.at} sx={{ color: "text.secondary", mr: 1 }}>{timeOfDay(e.at)}</Box>
            <strong>{[e.step, e.kind].filter(Boolean).join(" ")}</strong>{e.by && ` by ${e.by}`}{e.text && `: ${e.text}`}
          </Box>
        ))}
      </Box>
    </section>
  );
}

/** Expectations, and notifications to receivers. */
function Terms({ release: r }: { release: Release }) {
  const late = (r.notifications ?? []).filter((n) => n.state !== "delivered");
  const done = (r.notifications ?? []).length - late.length;
  return (
    <section aria-label="Expectations">
      <Box component="h3" sx={{ m: 0, fontSize: 13.5, fontWeight: 650 }}>Judged by</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, fontSize: 12.5 }}>
        {r.expect.map((e) => <li key={e}>{e}</li>)}
        <li>at least {plural(r.least, "request")}, every {seconds(1000 * r.everySeconds)}; {r.misses === 0 ? "the first miss withdraws it" : r.misses === 1 ? "one miss is tolerated" : `${r.misses} misses in a row are tolerated`}; patience {seconds(1000 * r.patienceSeconds)}</li>
        <li>on success: {r.onSuccess === "make-default" ? `${r.to} replaces ${r.from} in the rules` : "the weights of the last stage stay"}</li>
      </Box>
      {done + late.length > 0 && (
        <>
          <Box component="h3" sx={{ m: 0, mt: 1, fontSize: 13.5, fontWeight: 650 }}>Notifications</Box>
          <Box component="ul" sx={{ m: 0, pl: 2, fontSize: 12.5 }} data-test="notices">
            <li>{plural(done, "event")} delivered</li>
            {late.map((n, i) => <li key={`${n.url}${n.type}${i}`}>{n.type.replace("nightjar.release.", "")} to {n.url}: {n.state} after {n.attempts} attempts{n.response && `: ${n.response}`}</li>)}
          </Box>
        </>
      )}
    </section>
  );
}
