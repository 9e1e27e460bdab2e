import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Slider from "@mui/material/Slider";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { readStandIns, changeStandIn, type StandIn } from "../api/client";
import { usePolled } from "../parts/usePolled";
import { author } from "../parts/author";

/** The stand-ins of the sample mesh, with sliders for each version; empty where none run. */
export function StandIns() {
  const { value: list } = usePolled("standins", 2000, readStandIns);
  if (!list || list.length === 0) return null;
  const versions = new Map<string, StandIn>();
  for (const s of list) if (!versions.has(`${s.service}/${s.version}`) || s.isChanged) versions.set(`${s.service}/${s.version}`, s);
  return (
    <Paper variant="outlined" component="section" aria-label="Stand-ins" sx={{ p: 1.5, mt: 2 }}>
      <Typography variant="h2">Stand-ins</Typography>
      <Box sx={{ color: "text.secondary", mb: 1 }}>Simulated workloads of the sample. Let one fail or respond slowly, and watch its callers.</Box>
      <Box sx={{ display: "grid", columnGap: 3, rowGap: 0.5, gridTemplateColumns: { xs: "1fr", md: "1fr 1fr" } }}>
        {[...versions].map(([name, s]) => <Knobs key={name} name={name} standin={s} />)}
      </Box>
    </Paper>
  );
}

const most = 500; // ms

function Knobs({ name, standin: s }: { name: string; standin: StandIn }) {
  const [errors, setErrors] = useState<number | null>(null); // while it is dragged
  const [median, setMedian] = useState<number | null>(null);
  const [error, setError] = useState("");
  const set = (change: Parameters<typeof changeStandIn>[1]) => {
    changeStandIn(name, { ...change, by: author() }).then(() => setError(""), (e: unknown) => setError(e instanceof Error ? e.message : String(e)));
  };
  const shown = errors ?? 100 * s.errors;
  const slow = median ?? s.medianMS;
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: { xs: "96px 1fr 50px", sm: "106px minmax(50px, 1fr) 76px minmax(50px, 1fr) 56px 52px" }, alignItems: "center", columnGap: 1.25, fontSize: 13, "& span": { whiteSpace: "nowrap" } }} data-test={`standin-${name}`}>
      <Box component="strong" sx={{ overflowWrap: "anywhere" }}>{name}</Box>
      <Slider size="small" aria-label={`Errors of ${name}`} min={0} max={100} step={0.5} value={shown} color={shown >= 5 ? "error" : "primary"}
        onChange={(_, v) => setErrors(v)} onChangeCommitted={(_, v) => { set({ errors: v / 100 }); window.setTimeout(() => setErrors(null), 2500); }} />
      <span>{shown.toFixed(1)}% errors</span>
      <Slider size="small" aria-label={`Service time of ${name}`} min={0} max={most} step={1} value={Math.min(most, slow)}
        onChange={(_, v) => setMedian(v)} onChangeCommitted={(_, v) => { set({ medianMS: v }); window.setTimeout(() => setMedian(null), 2500); }} />
      <span>{slow.toFixed(0)} ms</span>
      <Button size="small" disabled={!s.isChanged} onClick={() => set({ reset: true })} sx={{ minWidth: 0 }}>Reset</Button>
      {error && <Alert severity="error" sx={{ gridColumn: "1 / -1" }}>{error}</Alert>}
    </Box>
  );
}
