import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useTheme } from "@mui/material/styles";
import { LineChart } from "@mui/x-charts/LineChart";
import { useEffect, useState } from "react";
import { readDraft, readTrialNames, type Forecast, type ForecastRequest } from "../api/client";
import { useLive } from "../api/live";
import { chartLook, chartPair, latencyAxis } from "../parts/charts";
import { millis, percent, plural } from "../parts/format";
import { author } from "../parts/author";
import { useForecast } from "./useForecast";
import { Rows } from "./Rows";
import { Expected } from "./Trials";

/** For a select whose empty value has a label. */
const shown = { select: { displayEmpty: true }, inputLabel: { shrink: true } };

const rates = ["0.25", "0.5", "1", "2", "4", "8"];

/** Computes a forecast, and shows it with its assumptions. */
export function Forecasts() {
  const { mesh } = useLive();
  const [rules, setRules] = useState("in force");
  const [trial, setTrial] = useState("");
  const [rate, setRate] = useState("1");
  const [sweep, setSweep] = useState(true);
  const [down, setDown] = useState("");
  const [names, setNames] = useState<string[]>([]);
  const [draftError, setDraftError] = useState("");
  const { value, error, busy, start } = useForecast();
  const sites = [...new Set((mesh?.services ?? []).flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean).sort();
  const versions = (mesh?.services ?? []).flatMap((s) => s.versions.map((v) => `${s.name}/${v.name}`));
  const revision = mesh?.revision.number;
  useEffect(() => {
    readTrialNames().then(setNames, () => undefined);
  }, [revision]);
  const go = async () => {
    setDraftError("");
    try {
      const draft = rules === "draft" ? await readDraft("main", author()) : null;
      if (rules === "draft" && !draft?.files) throw new Error(`${author()} has no draft: edit the rules on the page Rules first, without publishing them.`);
      const body: ForecastRequest = { sweep, rate: Number(rate) };
      if (draft?.files) body.rules = draft.files;
      if (trial) body.trial = trial;
      if (down) body.down = [down];
      start(body);
    } catch (e) {
      setDraftError(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <>
      <Paper variant="outlined" sx={{ p: 1.5, display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
        <TextField select size="small" label="Rules" value={rules} onChange={(e) => setRules(e.target.value)} sx={{ width: 150 }} data-test="forecast-rules">
          <MenuItem value="in force">in force</MenuItem>
          <MenuItem value="draft">my draft</MenuItem>
        </TextField>
        <TextField select size="small" label="With trial" value={trial} onChange={(e) => setTrial(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">none</MenuItem>
          {names.map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Traffic multiplier" value={rate} onChange={(e) => setRate(e.target.value)} sx={{ width: 140 }}>
          {rates.map((r) => <MenuItem key={r} value={r}>{r}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Simulate outage" value={down} onChange={(e) => setDown(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">none</MenuItem>
          {[...sites, ...versions].map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <FormControlLabel control={<Checkbox size="small" checked={sweep} onChange={(e) => setSweep(e.target.checked)} />} label="Sweep rates" />
        <Button variant="contained" disabled={busy} onClick={() => void go()} data-test="forecast">{busy ? "Computing" : "Forecast"}</Button>
      </Paper>
      {(draftError || error) && <Alert severity="error" sx={{ mt: 1 }} data-test="forecast-error">{draftError || error}</Alert>}
      {!value && !busy && !error && (
        <Box sx={{ color: "text.secondary", my: 2, maxWidth: "75ch" }}>
          Simulates the mesh with the rates and the behaviour of the last five minutes. For the rules in force the forecast is compared with the measurements, which shows how accurate it is. For your draft of the page Rules it is compared with the rules in force.
        </Box>
      )}
      {value && <Paper variant="outlined" sx={{ p: 2, mt: 1.5, opacity: busy ? 0.5 : 1 }}><Answer forecast={value} /></Paper>}
    </>
  );
}

/** A forecast in full. */
function Answer({ forecast: f }: { forecast: Forecast }) {
  return (
    <Box data-test="forecast-answer">
      <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>{f.after === "draft" ? `Revision ${f.revision}, in force, and the draft` : "Measurements, and the forecast for the same rules"}</Box>
      <Box sx={{ color: "text.secondary" }}>{plural(f.requests, "request")} simulated on each side, {f.simulated.toFixed(0)} s of traffic; computed in {millis(f.tookMS)}; seed {f.seed}.</Box>
      {f.draft.map((c) => <Box key={c.path}>{c.path}: {c.before || "–"} → <strong>{c.after || "–"}</strong></Box>)}
      {f.after === "draft" && f.worse && <Alert severity="warning" sx={{ my: 1 }}>Worse by more than one point: {f.worse}.</Alert>}
      <Expected list={f.expected} {...(f.now ? { now: f.now } : {})} />
      {f.refusalStart?.map((b) => (
        <Box key={b.rules} sx={{ fontWeight: 600, mt: 0.5 }} data-test={`refusal-start-${b.rules.replace(" ", "-")}`}>
          {b.rules === "draft" ? "Under the draft" : "Under the rules in force"}{" "}
          {b.rps > 0 ? `the mesh starts to refuse requests at ${b.rps.toFixed(0)} per second: ${b.reason ?? ""} on ${b.where ?? ""}.` : "guards and limits refuse less than 0.1% of the requests at these rates."}
        </Box>
      ))}
      {f.sweep && f.sweep.length > 0 && <Sweep forecast={f} />}
      <Box sx={{ mt: 1.5 }}><Rows rows={f.rows} before={f.before} after={f.after} /></Box>
      <Box component="h3" sx={{ fontSize: "0.95rem", mb: 0.25 }}>Assumptions</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, color: "text.secondary", fontSize: 12.5 }} data-test="assumed">{[...f.calibration, ...f.assumptions].map((a) => <li key={a}>{a}</li>)}</Box>
    </Box>
  );
}

/** Refusals and latency at other rates. */
function Sweep({ forecast: f }: { forecast: Forecast }) {
  const { palette } = useTheme();
  const points = f.sweep ?? [];
  const two = (f.refusalStart?.length ?? 0) > 1;
  const chart = chartLook(190);
  const axis = [{ data: points.map((p) => p.rps), label: "requests per second that enter the mesh", valueFormatter: (v: number) => v.toFixed(0), disableLine: true, tickNumber: 8 }];
  const series = (of: (side: (typeof points)[number]["before"]) => number, write: (v: number) => string) => {
    const line = (label: string, colour: string, data: number[]) => ({ label, color: colour, data, showMark: true, shape: "circle" as const, curve: "linear" as const, valueFormatter: (v: number | null) => (v === null ? "–" : write(v)) });
    return [line("in force", palette.primary.main, points.map((p) => of(p.before))), ...(two ? [{ ...line("draft", palette.warning.main, points.map((p) => of(p.after))), id: "second" }] : [])];
  };
  return (
    <Box sx={{ ...chartPair, mt: 1 }} data-test="sweep">
      <Box><strong>Refused</strong><LineChart {...chart} xAxis={axis} yAxis={[{ width: 52, min: 0, max: Math.max(0.01, ...points.flatMap((p) => [p.before.refused, p.after.refused])), tickNumber: 3, valueFormatter: (v: number) => `${Number((100 * v).toFixed(2))}%` }]} series={series((s) => s.refused, percent)} /></Box>
      <Box><strong>Latency, p95</strong><LineChart {...chart} xAxis={axis} yAxis={latencyAxis} series={series((s) => s.p95MS, millis)} /></Box>
    </Box>
  );
}
