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
import { readDraft, readTrialNames, type Forecast, type ForecastAsk } from "../api/client";
import { useLive } from "../api/live";
import { chartLook, chartPair, latencyAxis } from "../parts/charts";
import { millis, percent, plural } from "../parts/format";
import { who } from "../parts/who";
import { useForecast } from "./useForecast";
import { Rows } from "./Rows";
import { Expected } from "./Trials";

/** Of a choice whose empty value has words. */
const shown = { select: { displayEmpty: true }, inputLabel: { shrink: true } };

const rates = ["0.25", "0.5", "1", "2", "4", "8"];

/** Asks what a draft would do, and shows the answer with what it assumed. */
export function Forecasts() {
  const { mesh } = useLive();
  const [rules, setRules] = useState("in force");
  const [trial, setTrial] = useState("");
  const [rate, setRate] = useState("1");
  const [sweep, setSweep] = useState(true);
  const [down, setDown] = useState("");
  const [names, setNames] = useState<string[]>([]);
  const [trouble, setTrouble] = useState("");
  const { value, error, busy, ask } = useForecast();
  const sites = [...new Set((mesh?.services ?? []).flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean).sort();
  const versions = (mesh?.services ?? []).flatMap((s) => s.versions.map((v) => `${s.name}/${v.name}`));
  const revision = mesh?.revision.number;
  useEffect(() => {
    readTrialNames().then(setNames, () => undefined);
  }, [revision]);
  const go = async () => {
    setTrouble("");
    try {
      const draft = rules === "draft" ? await readDraft("main", who()) : null;
      if (rules === "draft" && !draft?.files) throw new Error(`There is no draft of ${who()}: change the rules on the page Rules, without publishing them.`);
      const body: ForecastAsk = { sweep, rate: Number(rate) };
      if (draft?.files) body.rules = draft.files;
      if (trial) body.trial = trial;
      if (down) body.down = [down];
      ask(body);
    } catch (e) {
      setTrouble(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <>
      <Paper variant="outlined" sx={{ p: 1.5, display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
        <TextField select size="small" label="Rules" value={rules} onChange={(e) => setRules(e.target.value)} sx={{ width: 150 }} data-test="forecast-rules">
          <MenuItem value="in force">in force</MenuItem>
          <MenuItem value="draft">of my draft</MenuItem>
        </TextField>
        <TextField select size="small" label="Besides, the trial" value={trial} onChange={(e) => setTrial(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">none</MenuItem>
          {names.map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Today's rates, times" value={rate} onChange={(e) => setRate(e.target.value)} sx={{ width: 140 }}>
          {rates.map((r) => <MenuItem key={r} value={r}>{r}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Nobody answers of" value={down} onChange={(e) => setDown(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">everybody does</MenuItem>
          {[...sites, ...versions].map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <FormControlLabel control={<Checkbox size="small" checked={sweep} onChange={(e) => setSweep(e.target.checked)} />} label="also at other rates" />
        <Button variant="contained" disabled={busy} onClick={() => void go()} data-test="forecast">{busy ? "Computing" : "Forecast"}</Button>
      </Paper>
      {(trouble || error) && <Alert severity="error" sx={{ mt: 1 }} data-test="forecast-trouble">{trouble || error}</Alert>}
      {!value && !busy && !error && (
        <Box sx={{ color: "text.secondary", my: 2, maxWidth: "75ch" }}>
          Simulates the mesh with the rates and the behaviour of the last five minutes. With the rules in force the answer is compared with what was measured, which shows how far it can be trusted; with your draft of the page Rules, the rules in force and the draft stand side by side.
        </Box>
      )}
      {value && <Paper variant="outlined" sx={{ p: 2, mt: 1.5, opacity: busy ? 0.5 : 1 }}><Answer forecast={value} /></Paper>}
    </>
  );
}

/** All that a forecast says. */
function Answer({ forecast: f }: { forecast: Forecast }) {
  return (
    <Box data-test="forecast-answer">
      <Box component="h2" sx={{ m: 0, fontSize: "1.05rem" }}>{f.after === "draft" ? `Revision ${f.revision}, which is in force, and the draft` : "What was measured, and what the forecast says of the same rules"}</Box>
      <Box sx={{ color: "text.secondary" }}>{plural(f.requests, "request")} came in on each side, in {f.simulated.toFixed(0)} s of the mesh's time; computed in {millis(f.tookMS)}; seed {f.seed}.</Box>
      {f.draft.map((c) => <Box key={c.path}>{c.path}: {c.before || "–"} → <strong>{c.after || "–"}</strong></Box>)}
      {f.after === "draft" && f.worse && <Alert severity="warning" sx={{ my: 1 }}>Worse by more than a point: {f.worse}.</Alert>}
      <Expected list={f.expected} {...(f.now ? { now: f.now } : {})} />
      {f.begins?.map((b) => (
        <Box key={b.rules} sx={{ fontWeight: 600, mt: 0.5 }} data-test={`begins-${b.rules.replace(" ", "-")}`}>
          {b.rules === "draft" ? "By the draft" : "By the rules in force"}{" "}
          {b.rps > 0 ? `the mesh begins to refuse at ${b.rps.toFixed(0)} requests a second: ${b.reason ?? ""} on ${b.where ?? ""}.` : "guards and limits refuse nothing at any of these rates."}
        </Box>
      ))}
      {f.sweep && f.sweep.length > 0 && <Sweep forecast={f} />}
      <Box sx={{ mt: 1.5 }}><Rows rows={f.rows} before={f.before} after={f.after} /></Box>
      <Box component="h3" sx={{ fontSize: "0.95rem", mb: 0.25 }}>What this rests on</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, color: "text.secondary", fontSize: 12.5 }} data-test="assumed">{[...f.calibration, ...f.assumed].map((a) => <li key={a}>{a}</li>)}</Box>
    </Box>
  );
}

/** What is refused, and how long it takes, at other rates. */
function Sweep({ forecast: f }: { forecast: Forecast }) {
  const { palette } = useTheme();
  const points = f.sweep ?? [];
  const two = (f.begins?.length ?? 0) > 1;
  const chart = chartLook(190);
  const axis = [{ data: points.map((p) => p.rps), label: "requests a second that come in", valueFormatter: (v: number) => v.toFixed(0), disableLine: true, tickNumber: 8 }];
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
