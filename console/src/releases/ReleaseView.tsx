import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import { useState } from "react";
import { Link } from "wouter";
import { queries, words, type JudgementSide, type Release, type StageJudgement } from "../api/client";
import { FactTable } from "../kit/FactTable";
import { millis, moment, percent, plural, seconds } from "../kit/format";
import { type } from "../kit/theme";
import { Verdict } from "../kit/Verdict";
import { VersionMark } from "../kit/VersionMark";
import { Actions } from "./Actions";
import { OverTime } from "./OverTime";
import { StageRail } from "./StageRail";
import { ReleaseState } from "./ReleaseState";

/** ReleaseView release: its stages, what was judged, and what a person can do. */
export function ReleaseView({ name }: { name: string }) {
  const { data: r, error: failure } = queries.useQuery("get", "/api/v1/releases/{release}", { params: { path: { release: name } } }, {
    refetchInterval: (q) => (q.state.data?.state === "withdrawn" ? false : q.state.data?.state === "completed" ? 5000 : 700),
  });
  const error = failure ? words(failure) : "";
  const [picked, setPicked] = useState(-1);
  if (!r) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the release</Box>;
  const list = r.judgements ?? [];
  const shown = list[picked] ?? list.at(-1);
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="release">
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, rowGap: 1, alignItems: "baseline" }}>
        <Box component="h2" sx={{ typography: "h2", m: 0 }}>{r.name}</Box>
        <ReleaseState of={r.state} />
        <Box sx={{ color: "text.secondary" }}>
          <Link to={`/services/${r.service}`} style={{ color: "inherit" }}>{r.service}</Link> {r.from} to {r.to}, on {r.places.map((p) => `${p.parent}/${p.route}`).join(", ")}; started at {moment(r.began)} by {r.startedBy}
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
    <Box sx={{ my: 1, fontSize: type.head }} data-test="where">
      {text}{" "}
      {r.requests > 0 && (
        <Box component="span" sx={{ color: "text.secondary", fontSize: type.body }} data-test="cost">
          {r.to} got {plural(r.requests, "request")}; <Box component="span" sx={{ color: r.bad > 0 ? "error.main" : "inherit", fontWeight: 650 }}>{r.bad} failed</Box>, an estimated {r.excess.toFixed(0)} more than with {r.from}.
        </Box>
      )}
    </Box>
  );
}

function Judged({ judgement: j, release: r, newest }: { judgement: StageJudgement; release: Release; newest: boolean }) {
  const side = (name: string, s: JudgementSide, recent: JudgementSide) => ({
    key: name,
    cells: [
      <span key="name"><VersionMark service={r.service} version={name} />{name}</span>, s.requests, s.bad, percent(s.success), s.p99MS === null ? "–" : millis(s.p99MS),
      recent.requests === 0 ? "–" : `${recent.requests}, ${percent(recent.success)}`,
    ],
  });
  return (
    <Box data-test="judged">
      <Box component="h3" sx={{ typography: "h3", m: 0, mt: 0.5 }}>{newest ? "Last judgement" : "Judgement"} at {moment(j.at)}, stage {j.stepName}</Box>
      <Box sx={{ display: "grid", columnGap: 3, rowGap: 1, alignItems: "start", gridTemplateColumns: { xs: "minmax(0, 1fr)", xl: "minmax(0, 1.1fr) minmax(0, 1fr)" }, my: 1 }}>
        <FactTable
          isWide head={["Expected", "Verdict", `Measured (${Number((100 * j.confidence).toFixed(3))}% interval)`]}
          rows={j.findings.map((f) => ({ key: f.expectation + f.over, cells: [f.expectation, <Verdict key="verdict" of={f.verdict} />, f.measured + (f.verdict === "missed" ? `, ${f.over}` : "")] }))}
        />
        <FactTable isWide head={["Version", "Requests", "Failed", "Success", "p99", "Since the last judgement"]} figuresFrom={1} rows={[side(r.to, j.to, j.newTo), side(r.from, j.from, j.newFrom)]} />
      </Box>
    </Box>
  );
}

function Events({ release: r }: { release: Release }) {
  return (
    <section aria-label="Events">
      <Box component="h3" sx={{ typography: "h3", m: 0 }}>Events</Box>
      <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: 260, overflowY: "auto", fontSize: type.small }} tabIndex={0} aria-label="Events" data-test="events">
        {(r.events ?? []).toReversed().map((e, i) => (
          <Box component="li" key={`${e.at}${e.kind}${i}`} sx={{ py: 0.3, borderBottom: 1, borderColor: "divider" }}>
            <Box component="time" dateTime={e.at} title={e.at} sx={{ color: "text.secondary", mr: 1 }}>{moment(e.at)}</Box>
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
      <Box component="h3" sx={{ typography: "h3", m: 0 }}>Judged by</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, fontSize: type.small }}>
        {r.expect.map((e) => <li key={e}>{e}</li>)}
        <li>at least {plural(r.least, "request")}, every {seconds(1000 * r.everySeconds)}; {r.misses === 0 ? "the first miss withdraws it" : r.misses === 1 ? "one miss is tolerated" : `${r.misses} misses in a row are tolerated`}; patience {seconds(1000 * r.patienceSeconds)}</li>
        <li>on success: {r.onSuccess === "make-default" ? `${r.to} replaces ${r.from} in the rules` : "the weights of the last stage stay"}</li>
      </Box>
      {done + late.length > 0 && (
        <>
          <Box component="h3" sx={{ typography: "h3", m: 0, mt: 1 }}>Notifications</Box>
          <Box component="ul" sx={{ m: 0, pl: 2, fontSize: type.small }} data-test="notices">
            <li>{plural(done, "event")} delivered</li>
            {late.map((n, i) => <li key={`${n.url}${n.type}${i}`}>{n.type.replace("nightjar.release.", "")} to {n.url}: {n.state} after {n.attempts} attempts{n.response && `: ${n.response}`}</li>)}
          </Box>
        </>
      )}
    </section>
  );
}
