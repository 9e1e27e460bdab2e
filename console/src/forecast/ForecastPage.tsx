import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { lazy, Suspense, useState } from "react";
import { queries, words, type Forecast, type Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { RulesDraft, RulesField, useRules } from "../change/Rules";
import { Rows } from "../effects/Rows";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { EmptyState } from "../kit/EmptyState";
import { millis, plural } from "../kit/format";
import { PageHeader } from "../kit/PageHeader";
import { type } from "../kit/theme";
import { Expected } from "../trials/Expected";
import { useForecast } from "./useForecast";

const Sweep = lazy(() => import("./Sweep"));

/** For a select whose empty value has a label. */
const shown = { select: { displayEmpty: true }, inputLabel: { shrink: true } };

const rates = ["0.25", "0.5", "1", "2", "4", "8"];

const placesOf = (mesh: Mesh | null) => ({
  places: [...new Set((mesh?.services ?? []).flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean).sort(),
  versions: (mesh?.services ?? []).flatMap((s) => s.versions.map((v) => `${s.name}/${v.name}`)),
});

/** Computes a forecast, and shows it with its assumptions. */
export function ForecastPage() {
  const { places, versions } = useMesh(placesOf);
  const rules = useRules();
  const [trial, setTrial] = useState("");
  const [rate, setRate] = useState("1");
  const [sweep, setSweep] = useState(true);
  const [down, setDown] = useState("");
  const [draftError, setDraftError] = useState("");
  const { value, error, busy, start } = useForecast();
  const { data } = queries.useQuery("get", "/api/v1/trials/names", {}, { refetchInterval: 10_000 });
  const names = data?.names ?? [];
  const line = ["nightjar forecast", sweep && "--sweep", rate !== "1" && `--rate ${rate}`, trial && `--trial ${shellWord(trial)}`, down && `--down ${shellWord(down)}`, rules.isDraft && rules.name !== "main" && `--bundle ${shellWord(rules.name)}`, rules.isDraft && "DIRECTORY"].filter(Boolean).join(" ");
  const go = async () => {
    setDraftError("");
    try {
      start({ sweep, rate: Number(rate), ...(trial ? { trial } : {}), ...(down ? { down: [down] } : {}), ...(await rules.draft()) });
    } catch (e) {
      setDraftError(words(e));
    }
  };
  return (
    <>
      <PageHeader title="Forecast" about="What would happen under a draft, simulated from measurements with the code of the proxies." actions={<CopyAsCommand line={line} />} />
      <Paper variant="outlined" sx={{ p: 1.5, display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
        <RulesField rules={rules} test="forecast-rules" />
        <TextField select label="With trial" value={trial} onChange={(e) => setTrial(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">none</MenuItem>
          {names.map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <TextField select label="Traffic multiplier" value={rate} onChange={(e) => setRate(e.target.value)} sx={{ width: 140 }}>
          {rates.map((r) => <MenuItem key={r} value={r}>{r}</MenuItem>)}
        </TextField>
        <TextField select label="Simulate outage" value={down} onChange={(e) => setDown(e.target.value)} sx={{ minWidth: 150 }} slotProps={shown}>
          <MenuItem value="">none</MenuItem>
          {[...places, ...versions].map((n) => <MenuItem key={n} value={n}>{n}</MenuItem>)}
        </TextField>
        <FormControlLabel control={<Checkbox checked={sweep} onChange={(e) => setSweep(e.target.checked)} />} label="Sweep rates" />
        <Button variant="contained" disabled={busy} onClick={() => void go()} data-test="forecast">{busy ? "Computing" : "Forecast"}</Button>
      </Paper>
      <RulesDraft rules={rules} />
      {(draftError || error) && <Alert severity="error" sx={{ mt: 1 }} data-test="forecast-error">{draftError || error}</Alert>}
      {!value && !busy && !error && (
        <EmptyState title="Nothing was computed yet">
          A forecast simulates the mesh with the rates and the behaviour of the last five minutes. For the rules in force it is compared with the measurements, which shows how accurate it is. For your draft it is compared with the rules in force.
        </EmptyState>
      )}
      {value && <Paper variant="outlined" sx={{ p: 2, mt: 1.5, opacity: busy ? 0.5 : 1 }}><Answer forecast={value} /></Paper>}
    </>
  );
}

/** A forecast in full. */
function Answer({ forecast: f }: { forecast: Forecast }) {
  return (
    <Box data-test="forecast-answer">
      <Box component="h2" sx={{ m: 0, typography: "h2" }}>{f.after === "draft" ? `Revision ${f.revision}, in force, and the draft` : "Measurements, and the forecast for the same rules"}</Box>
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
      {f.sweep && f.sweep.length > 0 && <Suspense fallback={null}><Sweep forecast={f} /></Suspense>}
      <Box sx={{ mt: 1.5 }}><Rows rows={f.rows} before={f.before} after={f.after} /></Box>
      <Box component="h3" sx={{ typography: "h3", m: 0, mt: 1.5, mb: 0.5 }}>Assumptions</Box>
      <Box component="ul" sx={{ m: 0, pl: 2, color: "text.secondary", fontSize: type.small }} data-test="assumed">{[...f.calibration, ...f.assumptions].map((a) => <li key={a}>{a}</li>)}</Box>
    </Box>
  );
}
