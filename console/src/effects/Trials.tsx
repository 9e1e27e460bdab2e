import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useTheme } from "@mui/material/styles";
import { LineChart } from "@mui/x-charts/LineChart";
import { useEffect, useState } from "react";
import { compareTrials, readDraft, readTrial, readTrialNames, readTrials, reportURL, startTrial, stopTrial, type ExpectationResult, type Trial } from "../api/client";
import { useLive } from "../api/live";
import { chartLook, chartPair, latencyAxis } from "../parts/charts";
import { millis, percent, plural, rate, timeOfDay } from "../parts/format";
import { ListEntry } from "../parts/ListEntry";
import { usePolled } from "../parts/usePolled";
import { useQuery } from "../parts/useQuery";
import { author } from "../parts/author";
import { Rows, Verdict } from "./Rows";

/** Trials: start, follow and compare them. */
export function Trials() {
  const [params, change] = useQuery();
  const { value: list, error } = usePolled("trials", 1500, (signal) => readTrials(60, signal));
  const number = Number(params.get("trial") ?? 0) || (list?.[0]?.number ?? 0);
  const against = Number(params.get("against") ?? 0);
  const running = list?.some((t) => t.state === "running") ?? false;
  return (
    <>
      <StartForm running={running} onStarted={(n) => change({ trial: String(n), against: null })} />
      {error && !list && <Alert severity="error">{error}</Alert>}
      {list?.length === 0 && <Box sx={{ color: "text.secondary", my: 2 }}>No trial has run yet.</Box>}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" }, mt: 1.5 }}>
        <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 200, lg: 700 }, overflowY: "auto" }} data-test="trials">
          {(list ?? []).map((t) => (
            <Box component="li" key={t.number}>
              <ListEntry picked={t.number === number} onPick={() => change({ trial: String(t.number), against: null })} test={`trial-${t.number}`}>
                <Box sx={{ display: "flex", gap: 1 }}><strong>{t.number}</strong> {t.name} <Box sx={{ ml: "auto" }}><Verdict of={t.state} /></Box></Box>
                <Box sx={{ color: "text.secondary", fontSize: 12 }}>{timeOfDay(t.began)} by {t.by}{t.isRehearsal && ", rehearsal"}; {plural(t.figures.requests, "request")}, {percent(t.figures.success)}</Box>
              </ListEntry>
            </Box>
          ))}
        </Box>
        {number > 0 && <TrialView key={number} number={number} others={(list ?? []).filter((t) => t.number !== number && t.state !== "running")} against={against} onAgainst={(n) => change({ against: n ? String(n) : null })} />}
      </Box>
    </>
  );
}

function StartForm({ running, onStarted }: { running: boolean; onStarted: (n: number) => void }) {
  const { mesh } = useLive();
  const [names, setNames] = useState<string[] | null>(null);
  const [name, setName] = useState("");
  const [rules, setRules] = useState("in force");
  const [length, setLength] = useState("");
  const [startError, setStartError] = useState("");
  const revision = mesh?.revision.number;
  useEffect(() => {
    readTrialNames().then(setNames, (e: unknown) => setStartError(e instanceof Error ? e.message : String(e)));
  }, [revision]);
  const chosen = name || (names?.[0] ?? "");
  const start = async () => {
    setStartError("");
    try {
      const draft = rules === "draft" ? await readDraft("main", author()) : null;
      if (rules === "draft" && !draft?.files) throw new Error(`${author()} has no draft: edit the rules on the page Rules first, without publishing them.`);
      onStarted((await startTrial({ name: chosen, by: author(), ...(draft?.files ? { rules: draft.files } : {}), ...(length ? { for: length } : {}) })).number);
    } catch (e) {
      setStartError(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <Paper variant="outlined" sx={{ p: 1.5 }}>
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
        <TextField select size="small" label="Trial" value={chosen} onChange={(e) => setName(e.target.value)} sx={{ minWidth: 170 }} disabled={!names?.length}>
          {(names ?? []).map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Rules" value={rules} onChange={(e) => setRules(e.target.value)} sx={{ width: 150 }}>
          <MenuItem value="in force">in force</MenuItem>
          <MenuItem value="draft">my draft</MenuItem>
        </TextField>
        <TextField size="small" label="Duration" placeholder="as declared" value={length} onChange={(e) => setLength(e.target.value)} sx={{ width: 110 }} slotProps={{ inputLabel: { shrink: true } }} />
        <Button variant="contained" disabled={running || !chosen} onClick={() => void start()} data-test="start-trial">Run</Button>
        <Box sx={{ color: "text.secondary", fontSize: 12.5, flex: 1, minWidth: 240 }}>
          {names?.length === 0 ? "The rules in force declare no trial: write one in the section trials." : rules === "draft" ? "Only the requests of the trial follow the draft." : "The requests of the trial are added to the other traffic."}
        </Box>
      </Box>
      {startError && <Alert severity="error" sx={{ mt: 1 }} data-test="trial-error">{startError}</Alert>}
    </Paper>
  );
}

export function Expected({ list, running, now }: { list: ExpectationResult[]; running?: boolean; now?: ExpectationResult[] }) {
  if (list.length === 0) return null;
  return (
    <Box component="table" data-test="expected" sx={{ borderCollapse: "collapse", my: 1, "& td, & th": { pr: 2.5, py: 0.3, textAlign: "left", borderBottom: 1, borderColor: "divider" }, "& th": { color: "text.secondary", fontWeight: 600 } }}>
      <thead><tr><th>Expected</th><th aria-label="Verdict" /><th>{now?.length ? "Under the draft (95%)" : "Measured (95%)"}</th>{now && now.length > 0 && <th>Under the rules in force</th>}<th aria-label="Remark" /></tr></thead>
      <tbody>
        {list.map((j, i) => (
          <tr key={j.expectation}>
            <td>{j.expectation}</td>
            <td>{running ? <span>{j.isImpossible ? "cannot be met" : j.isMet ? "met so far" : "missed so far"}</span> : <Verdict of={j.isMet ? "met" : "missed"} />}</td>
            <td>{j.measured}</td>
            {now && now.length > 0 && <td>{now[i]?.measured}</td>}
            <Box component="td" sx={{ color: "text.secondary" }}>{j.value !== null && !j.isConclusive && "inconclusive"}</Box>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}

function TrialView({ number, others, against, onAgainst }: { number: number; others: Trial[]; against: number; onAgainst: (n: number) => void }) {
  const { value: t, error } = usePolled(`trial ${number}`, 700, (signal) => readTrial(number, signal));
  if (!t) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the trial</Box>;
  const running = t.state === "running";
  const f = t.figures;
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="trial">
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "baseline" }}>
        <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>Trial {t.number}: {t.name}</Box>
        <Verdict of={t.state} />
        <Box sx={{ color: "text.secondary" }}>{t.isRehearsal ? `rehearsal of a draft with ${plural(t.draft?.length ?? 0, "change")} to revision ${t.revision}` : `revision ${t.revision}`}; {t.seconds.toFixed(0)} of {t.for.toFixed(0)} s</Box>
        <Box sx={{ ml: "auto" }}>
          {running ? <Button size="small" onClick={() => void stopTrial(t.number)} data-test="stop-trial">Stop</Button> : <Button size="small" component="a" href={reportURL(`/trials/${t.number}`)} target="_blank" rel="noopener">Open report</Button>}
        </Box>
      </Box>
      {running && <LinearProgress variant="determinate" value={Math.min(100, (100 * t.seconds) / t.for)} aria-label="Progress" sx={{ my: 1 }} />}
      {t.why && <Alert severity={t.state === "missed" ? "warning" : "info"} sx={{ my: 1 }}>Ended early: {t.why}.</Alert>}
      {t.pace.bottleneck && <Alert severity="warning" sx={{ my: 1 }}>Load generator: {t.pace.bottleneck}.</Alert>}
      <Expected list={t.expected} running={running} />
      <Box sx={{ my: 0.5 }}>
        {plural(f.requests, "request")}, {rate(f.rps)}/s: success <strong>{percent(f.success)}</strong> ({percent(f.successLow)} to {percent(f.successHigh)}), first attempt {percent(f.firstAttempt)}, {f.attemptsPerRequest?.toFixed(2) ?? "–"} attempts per request;
        p50 {millis(f.p50MS)}, p95 {millis(f.p95MS)}, p99 {millis(f.p99MS)}
      </Box>
      <Box sx={{ color: "text.secondary" }}>
        {t.versions.map((v) => `${v.target} ${percent(v.share)}`).join(", ")}{Object.keys(f.reasons ?? {}).length > 0 && `; ${Object.entries(f.reasons ?? {}).map(([r, n]) => `${r} ${n}`).join(", ")}`}
      </Box>
      <Box component="ul" sx={{ m: 0, mt: 0.5, pl: 2, color: "text.secondary", fontSize: 12.5 }}>{[...t.loads, ...t.notes].map((n) => <li key={n}>{n}</li>)}</Box>
      {(t.points?.length ?? 0) > 1 && <Charts trial={t} />}
      {!running && others.length > 0 && (
        <Box sx={{ mt: 1.5 }}>
          <TextField select size="small" label="Compare with" value={against || ""} onChange={(e) => onAgainst(Number(e.target.value))} sx={{ minWidth: 240, mb: 1 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} data-test="against">
            <MenuItem value="">nothing</MenuItem>
            {others.map((o) => <MenuItem key={o.number} value={o.number}>{o.number}: {o.name}, {timeOfDay(o.began)}</MenuItem>)}
          </TextField>
          {against > 0 && <Compared before={against} after={number} />}
        </Box>
      )}
    </Paper>
  );
}

function Compared({ before, after }: { before: number; after: number }) {
  const { value: c, error } = usePolled(`compare ${before} ${after}`, 60_000, (signal) => compareTrials(before, after, signal));
  if (!c) return <Box sx={{ color: "text.secondary" }}>{error || "Loading the comparison"}</Box>;
  return (
    <>
      {c.notes.map((n) => <Box key={n} sx={{ color: "text.secondary" }}>{n}</Box>)}
      <Rows rows={c.rows} before={`trial ${before}`} after={`trial ${after}`} />
    </>
  );
}

function Charts({ trial }: { trial: Trial }) {
  const { palette } = useTheme();
  const points = trial.points ?? [];
  const some = (p: (typeof points)[number]) => p.ok + p.failed + p.refused > 0;
  const chart = chartLook(150);
  const line = (label: string, colour: string, data: (number | null)[]) => ({ label, color: colour, data, showMark: false, curve: "linear" as const });
  const axis = [{ data: points.map((p) => p.at), valueFormatter: (v: number) => `${v} s`, disableLine: true, tickNumber: 5 }];
  return (
    <Box sx={{ ...chartPair, mt: 1 }}>
      <LineChart {...chart} xAxis={axis} yAxis={[{ width: 44, min: 0, tickNumber: 3 }]} series={[line("requests per second", palette.primary.main, points.map((p) => p.ok + p.failed + p.refused)), { ...line("failed or refused", palette.error.main, points.map((p) => p.failed + p.refused)), id: "second" }]} />
      <LineChart {...chart} xAxis={axis} yAxis={latencyAxis} series={[line("p50", palette.primary.main, points.map((p) => (some(p) ? p.p50MS : null))), { ...line("p95", palette.warning.main, points.map((p) => (some(p) ? p.p95MS : null))), id: "second" }, line("p99", palette.error.main, points.map((p) => (some(p) ? p.p99MS : null)))]} />
    </Box>
  );
}
