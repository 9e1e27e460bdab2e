import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Slider from "@mui/material/Slider";
import { useEffect, useRef, useState } from "react";
import { api, queries, words, type Schemas, type StandIn } from "../api/client";

/** The stand-ins of the sample mesh, with sliders for each version; empty where none run. */
export function StandIns() {
  const { data } = queries.useQuery("get", "/api/v1/standins", {}, { refetchInterval: 2000 });
  const list = data?.standIns;
  if (!list || list.length === 0) return null;
  const versions = new Map<string, StandIn>();
  for (const s of list) if (!versions.has(`${s.service}/${s.version}`) || s.isChanged) versions.set(`${s.service}/${s.version}`, s);
  return (
    <Paper variant="outlined" component="section" aria-label="Stand-ins" sx={{ p: 1.5, mt: 2 }}>
      <Box component="h2" sx={{ typography: "h2", m: 0 }}>Stand-ins</Box>
      <Box sx={{ color: "text.secondary", mb: 1 }}>Simulated workloads of the sample. Let one fail or respond slowly, and watch its callers.</Box>
      <Box sx={{ display: "grid", columnGap: 3, rowGap: 0.5, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "minmax(0, 1fr) minmax(0, 1fr)" } }}>
        {[...versions].map(([name, s]) => <Knobs key={name} name={name} standin={s} />)}
      </Box>
    </Paper>
  );
}

const slowest = 500; // ms
const settling = 2500; // ms until what was set is what is read

/** A value that is dragged: it holds what the person chose until the service has it, or says otherwise. */
function useHeld(read: number): [value: number, drag: (v: number) => void, letGo: () => void] {
  const [held, setHeld] = useState<number | null>(null);
  const timer = useRef(0);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const drag = (v: number) => {
    window.clearTimeout(timer.current);
    setHeld(v);
  };
  const letGo = () => {
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => setHeld(null), settling);
  };
  return [held ?? read, drag, letGo];
}

function Knobs({ name, standin: s }: { name: string; standin: StandIn }) {
  const [errors, dragErrors, letErrors] = useHeld(100 * s.errors);
  const [median, dragMedian, letMedian] = useHeld(s.medianMS);
  const [error, setError] = useState("");
  const set = (change: Schemas["StandInChange"]) => {
    api.PUT("/api/v1/standins/{standin}", { params: { path: { standin: name.replace("/", "~") } }, body: change }).then(() => setError(""), (e: unknown) => setError(words(e)));
  };
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: { xs: "96px 1fr 84px", sm: "118px minmax(50px, 1fr) 84px minmax(50px, 1fr) 60px 60px" }, alignItems: "center", columnGap: 1.5, "& span": { whiteSpace: "nowrap" } }} data-test={`standin-${name}`}>
      <Box component="strong" sx={{ overflowWrap: "anywhere" }}>{name}</Box>
      <Slider size="small" aria-label={`Errors of ${name}`} min={0} max={100} step={0.5} value={errors} color={errors >= 5 ? "error" : "primary"}
        onChange={(_, v) => dragErrors(v)} onChangeCommitted={(_, v) => { set({ errors: v / 100 }); letErrors(); }} />
      <span>{errors.toFixed(1)}% errors</span>
      <Slider size="small" aria-label={`Service time of ${name}`} min={0} max={slowest} step={1} value={Math.min(slowest, median)}
        onChange={(_, v) => dragMedian(v)} onChangeCommitted={(_, v) => { set({ medianMS: v }); letMedian(); }} />
      <span>{median.toFixed(0)} ms</span>
      <Button disabled={!s.isChanged} onClick={() => set({ reset: true })} sx={{ minWidth: 0 }}>Reset</Button>
      {error && <Alert severity="error" sx={{ gridColumn: "1 / -1" }}>{error}</Alert>}
    </Box>
  );
}
