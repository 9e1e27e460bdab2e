import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useTheme } from "@mui/material/styles";
import { useState } from "react";
import { api, queries, reportURL, take, words, type Mesh, type Trial } from "../api/client";
import { useMesh } from "../api/live";
import { RulesDraft, RulesField, useRules } from "../change/Rules";
import { Rows } from "../effects/Rows";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { For, useIsOfTeam } from "../kit/For";
import { EmptyState } from "../kit/EmptyState";
import { millis, moment, percent, plural, rate } from "../kit/format";
import { LatencyChart } from "../kit/LatencyChart";
import { ListEntry } from "../kit/ListEntry";
import { PageHeader } from "../kit/PageHeader";
import { type } from "../kit/theme";
import { SharedCursor, TimeChart } from "../kit/TimeChart";
import { Verdict } from "../kit/Verdict";
import { Expected } from "./Expected";

const revisionOf = (mesh: Mesh | null) => mesh?.revision.number ?? 0;

/** Trials: start, follow and compare them. */
export function TrialsPage() {
  const [params, change] = useAddress();
  const { data, error } = queries.useQuery("get", "/api/v1/trials", { params: { query: { limit: 60 } } }, { refetchInterval: 1500 });
  const list = data?.trials;
  const number = Number(params.get("trial") ?? 0) || (list?.[0]?.number ?? 0);
  const against = Number(params.get("against") ?? 0);
  const running = list?.some((t) => t.state === "running") ?? false;
  const shown = list?.find((t) => t.number === number);
  return (
    <>
      <PageHeader
        title="Trials" about="A limited load with expectations, under the rules in force or under a draft that only its requests follow."
        actions={<CopyAsCommand line={shown ? `nightjar trial run ${shellWord(shown.name)}` : "nightjar trial list"} />}
      />
      <StartForm running={running} onStarted={(n) => change({ trial: String(n), against: null })} />
      {error && !list && <Alert severity="error">{words(error)}</Alert>}
      {list?.length === 0 && <EmptyState title="No trial has run yet">Choose one above and run it. It sends its load through the mesh and compares what comes back with its expectations.</EmptyState>}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" }, mt: 1.5 }}>
        <Box component="ol" tabIndex={0} aria-label="Trials" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 200, lg: 700 }, overflowY: "auto" }} data-test="trials">
          {(list ?? []).map((t) => (
            <Box component="li" key={t.number}>
              <ListEntry picked={t.number === number} onPick={() => change({ trial: String(t.number), against: null })} test={`trial-${t.number}`}>
                <Box sx={{ display: "flex", gap: 1 }}><strong>{t.number}</strong> {t.name} <Box sx={{ ml: "auto" }}><Verdict of={t.state} /></Box></Box>
                <Box sx={{ color: "text.secondary", fontSize: type.small }}>{moment(t.began)} by {t.by}{t.isRehearsal && ", rehearsal"}; {plural(t.figures.requests, "request")}, {percent(t.figures.success)}</Box>
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
  const revision = useMesh(revisionOf);
  const { data, error: unread } = queries.useQuery("get", "/api/v1/trials/names", {}, { refetchInterval: revision ? 5000 : false });
  const names = data?.names;
  const [name, setName] = useState("");
  const rules = useRules();
  const [length, setLength] = useState("");
  const [startError, setStartError] = useState("");
  const chosen = name || (names?.[0] ?? "");
  const start = async () => {
    setStartError("");
    try {
      const body = { name: chosen, ...(length ? { for: length } : {}), ...(await rules.draft()) };
      onStarted((await take(api.POST("/api/v1/trials", { body }))).number);
    } catch (e) {
      setStartError(words(e));
    }
  };
  return (
    <>
      <Paper variant="outlined" sx={{ p: 1.5 }}>
        <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
          <TextField select label="Trial" value={chosen} onChange={(e) => setName(e.target.value)} sx={{ minWidth: 170 }} disabled={!names?.length}>
            {(names ?? []).map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
          </TextField>
          <RulesField rules={rules} test="trial-rules" />
          <TextField label="Duration" placeholder="as declared" value={length} onChange={(e) => setLength(e.target.value)} sx={{ width: 110 }} slotProps={{ inputLabel: { shrink: true } }} data-test="trial-duration" />
          <For who="editor"><Button variant="contained" disabled={running || !chosen} onClick={() => void start()} data-test="start-trial">Run</Button></For>
          <Box sx={{ color: "text.secondary", fontSize: type.small, flex: 1, minWidth: 240 }}>
            {names?.length === 0 ? "The rules in force declare no trial: write one in the section trials." : rules.isDraft ? "Only the requests of the trial follow the draft." : "The requests of the trial are added to the other traffic."}
          </Box>
        </Box>
        {(startError || unread) && <Alert severity="error" sx={{ mt: 1 }} data-test="trial-error">{startError || words(unread)}</Alert>}
      </Paper>
      <RulesDraft rules={rules} />
    </>
  );
}

function TrialView({ number, others, against, onAgainst }: { number: number; others: Trial[]; against: number; onAgainst: (n: number) => void }) {
  const ofTeam = useIsOfTeam();
  const [failure, setFailure] = useState("");
  const { data: t, error } = queries.useQuery("get", "/api/v1/trials/{trial}", { params: { path: { trial: String(number) } } }, { refetchInterval: (q) => (q.state.data && q.state.data.state !== "running" ? false : 700) });
  if (!t) return error ? <Alert severity="error">{words(error)}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the trial</Box>;
  const running = t.state === "running";
  const f = t.figures;
  const stop = () => api.DELETE("/api/v1/trials/{trial}", { params: { path: { trial: String(number) } } }).then(() => setFailure(""), (e: unknown) => setFailure(words(e)));
  return (
    <Paper variant="outlined" sx={{ p: 2, minWidth: 0 }} data-test="trial">
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "baseline" }}>
        <Box component="h2" sx={{ m: 0, typography: "h2" }}>Trial {t.number}: {t.name}</Box>
        <Verdict of={t.state} />
        <Box sx={{ color: "text.secondary" }}>{t.isRehearsal ? `rehearsal of a draft with ${plural(t.draft?.length ?? 0, "change")} to revision ${t.revision}` : `revision ${t.revision}`}; {t.seconds.toFixed(0)} of {t.for.toFixed(0)} s</Box>
        <Box sx={{ ml: "auto" }}>
          {running ? <For who="editor"><Button onClick={() => void stop()} data-test="stop-trial">Stop</Button></For> : !ofTeam && <Button component="a" href={reportURL(`/trials/${t.number}`)} target="_blank" rel="noopener">Open report</Button>}
        </Box>
      </Box>
      {running && <LinearProgress variant="determinate" value={Math.min(100, (100 * t.seconds) / t.for)} aria-label="Progress" sx={{ my: 1 }} />}
      {failure && <Alert severity="error" sx={{ my: 1 }}>{failure}</Alert>}
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
      <Box component="ul" sx={{ m: 0, mt: 0.5, pl: 2, color: "text.secondary", fontSize: type.small }}>{[...t.loads, ...t.notes].map((n) => <li key={n}>{n}</li>)}</Box>
      {(t.points?.length ?? 0) > 1 && <Charts trial={t} />}
      {!running && others.length > 0 && (
        <Box sx={{ mt: 1.5 }}>
          <TextField select label="Compare with" value={against || ""} onChange={(e) => onAgainst(Number(e.target.value))} sx={{ minWidth: 240, mb: 1 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} data-test="against">
            <MenuItem value="">nothing</MenuItem>
            {others.map((o) => <MenuItem key={o.number} value={o.number}>{o.number}: {o.name}, {moment(o.began)}</MenuItem>)}
          </TextField>
          {against > 0 && <Compared before={against} after={number} />}
        </Box>
      )}
    </Paper>
  );
}

function Compared({ before, after }: { before: number; after: number }) {
  const { data: c, error } = queries.useQuery("get", "/api/v1/trials/{trial}/against/{other}", { params: { path: { trial: String(before), other: String(after) } } }, { staleTime: Infinity });
  if (!c) return <Box sx={{ color: "text.secondary" }}>{error ? words(error) : "Loading the comparison"}</Box>;
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
  const common = { times: points.map((p) => p.at), isRelative: true, min: 0 };
  return (
    <SharedCursor>
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 1fr) minmax(0, 1fr)" }, mt: 1 }}>
        <TimeChart
          {...common} title="Requests per second" format={(v) => rate(v)}
          lines={[
            { name: "all", colour: palette.primary.main, values: points.map((p) => p.ok + p.failed + p.refused) },
            { name: "failed or refused", colour: palette.error.main, isDashed: true, values: points.map((p) => p.failed + p.refused) },
          ]}
        />
        <LatencyChart {...common} points={points} />
      </Box>
    </SharedCursor>
  );
}
