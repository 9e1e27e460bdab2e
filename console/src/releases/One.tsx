import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import { useState } from "react";
import { Link } from "react-router";
import { readRelease, type Release, type ReleaseJudgement, type ReleaseSide } from "../api/client";
import { millis, percent, plural, seconds, timeOfDay } from "../parts/format";
import { usePolled } from "../parts/usePolled";
import { Acts } from "./Acts";
import { Over } from "./Over";
import { Rail } from "./Rail";
import { State } from "./State";

/** One release: its stages, what was judged, and what a person can do. */
export function One({ name }: { name: string }) {
  const { value: r, error } = usePolled(`release ${name}`, 700, (signal) => readRelease(name, signal));
  const [picked, setPicked] = useState(-1);
  if (!r) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Reading the release</Box>;
  const list = r.judgements ?? [];
  const shown = list[picked] ?? list.at(-1);
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="release">
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, rowGap: 1, alignItems: "baseline" }}>
        <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>{r.name}</Box>
        <State of={r.state} />
        <Box sx={{ color: "text.secondary" }}>
          <Link to={`/services/${r.service}`} style={{ color: "inherit" }}>{r.service}</Link> {r.from} to {r.to}, on {r.places.map((p) => `${p.ladder}/${p.route}`).join(", ")}; begun {timeOfDay(r.began)} by {r.starter}
        </Box>
        <Box sx={{ ml: "auto" }}><Acts release={r} /></Box>
      </Box>
      {error && <Alert severity="warning" sx={{ my: 1 }}>{error}</Alert>}
      <Where release={r} />
      <Rail release={r} picked={picked} onPick={(n) => setPicked(n === picked ? -1 : n)} />
      {shown && <Judged judgement={shown} release={r} newest={shown === list.at(-1)} />}
      <Over release={r} />
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "1fr", md: "minmax(0, 1.6fr) minmax(0, 1fr)" }, mt: 1.5 }}>
        <Events release={r} />
        <Terms release={r} />
      </Box>
    </Paper>
  );
}

/** What the release does now, or why it has ended. */
function Where({ release: r }: { release: Release }) {
  const over = r.state === "completed" || r.state === "withdrawn";
  let text: string;
  if (over) text = `${r.state === "completed" ? "Completed" : "Withdrawn"} by ${r.by ?? ""} after ${seconds(Date.parse(r.ended ?? r.since) - Date.parse(r.began))}: ${r.why ?? ""}.`;
  else if (r.state === "held") text = `Held by ${r.by ?? ""}: ${r.why ?? ""}.`;
  else if (r.state === "shifting") text = r.asking ? "Receivers are asked whether the next stage may begin." : "Proxies are getting the new weights.";
  else if (r.state === "ready") text = "It is about to begin.";
  else if (r.left > 0) text = `${r.left.toFixed(0)} s left, judged next in ${r.nextLook.toFixed(0)} s.`;
  else text = `${r.waited.toFixed(0)} s beyond its time, since the judgement is ${r.last?.verdict ?? "to come"}; after ${seconds(1000 * r.patience)} it ends.`;
  return (
    <Box sx={{ my: 1, fontSize: 15 }} data-test="where">
      {text}{" "}
      {r.requests > 0 && (
        <Box component="span" sx={{ color: "text.secondary", fontSize: 13 }} data-test="cost">
          {r.to} was sent {plural(r.requests, "request")}; <Box component="span" sx={{ color: r.bad > 0 ? "error.main" : "inherit", fontWeight: 650 }}>{r.bad} failed</Box>, about {r.more.toFixed(0)} more than {r.from} would have.
        </Box>
      )}
    </Box>
  );
}

const cells = { borderCollapse: "collapse", my: 1, width: "100%", fontSize: 13, "& td, & th": { pr: 1.5, py: 0.3, textAlign: "left", verticalAlign: "top", borderBottom: 1, borderColor: "divider" }, "& th": { color: "text.secondary", fontWeight: 600 } } as const;

function Judged({ judgement: j, release: r, newest }: { judgement: ReleaseJudgement; release: Release; newest: boolean }) {
  const side = (name: string, s: ReleaseSide, fresh: ReleaseSide) => (
    <tr>
      <td><strong>{name}</strong></td>
      <td>{s.requests}</td>
      <td>{s.bad}</td>
      <td>{percent(s.success)}</td>
      <Box component="td" sx={{ whiteSpace: "nowrap" }}>{s.p99MS === null ? "–" : millis(s.p99MS)}</Box>
      <Box component="td" sx={{ color: "text.secondary", whiteSpace: "nowrap" }}>{fresh.requests === 0 ? "–" : `${fresh.requests}, ${percent(fresh.success)}`}</Box>
    </tr>
  );
  return (
    <Box data-test="judged" sx={{ overflowX: "auto" }}>
      <Box component="h3" sx={{ m: 0, mt: 0.5, fontSize: 13.5, fontWeight: 650 }}>{newest ? "Judged last" : "Judged"} at {timeOfDay(j.at)}, stage {j.stepName}</Box>
      <Box sx={{ display: "grid", columnGap: 3, alignItems: "start", gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "minmax(0, 1.1fr) minmax(0, 1fr)" } }}>
        <Box component="table" sx={cells}>
          <thead><tr><th>Expected</th><th aria-label="Verdict" /><th title={`sure to ${(100 * j.sure).toFixed(3)}%`}>Measured (limits)</th></tr></thead>
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
          <thead><tr><th>Stage</th><th>Requests</th><th>Failed</th><th>Success</th><th>p99</th><th title="since the judgement before">New</th></tr></thead>
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

/** What it is judged by, and who is told of it. */
function Terms({ release: r }: { release: Release }) {
  const late = (r.notices ?? []).filter((n) => n.state !== "delivered");
  const done = (r.notices ?? []).length - late.length;
  return (
    <section aria-label="Terms">
      <Box component="h3" sx={{ m: 0, fontSize: 13.5, fontWeight: 650 }}>Judged by</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, fontSize: 12.5 }}>
        {r.expect.map((e) => <li key={e}>{e}</li>)}
        <li>at least {plural(r.least, "request")}, every {seconds(1000 * r.every)}; {r.misses === 0 ? "the first miss withdraws" : r.misses === 1 ? "one miss is borne" : `${r.misses} misses in a row are borne`}; {seconds(1000 * r.patience)} of patience</li>
        <li>at the end: {r.onSuccess === "make-default" ? `${r.to} takes the place of ${r.from} in the rules` : "the weights of the last stage stay"}</li>
      </Box>
      {done + late.length > 0 && (
        <>
          <Box component="h3" sx={{ m: 0, mt: 1, fontSize: 13.5, fontWeight: 650 }}>Told to receivers</Box>
          <Box component="ul" sx={{ m: 0, pl: 2, fontSize: 12.5 }} data-test="notices">
            <li>{plural(done, "event")} delivered</li>
            {late.map((n, i) => <li key={`${n.url}${n.type}${i}`}>{n.type.replace("nightjar.release.", "")} to {n.url}: {n.state} after {n.tries} tries{n.answer && `: ${n.answer}`}</li>)}
          </Box>
        </>
      )}
    </section>
  );
}
