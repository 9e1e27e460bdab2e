import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import type { GridColDef } from "@mui/x-data-grid";
import { useNavigate, useParams } from "react-router";
import { readTraces, type Query, type TraceSummary } from "../api/client";
import { useLive } from "../api/live";
import { exactly, millis, percent, plural } from "../parts/format";
import { Grid } from "../parts/Grid";
import { usePolled } from "../parts/usePolled";
import { useQuery } from "../parts/useQuery";
import { Waterfall } from "./Waterfall";

const pace = 2000;
const shown = 200;

const bad = (t: TraceSummary) => t.outcome !== "ok" || t.failedAttempts > 0;

const columns: GridColDef<TraceSummary>[] = [
  { field: "id", headerName: "Trace", width: 90, valueFormatter: (v: string) => v.slice(0, 8) },
  { field: "at", headerName: "Time", width: 112, valueFormatter: (v: string) => exactly(v) },
  { field: "caller", headerName: "From", width: 110 },
  { field: "service", headerName: "To", width: 110 },
  { field: "path", headerName: "Request", flex: 1, minWidth: 160, valueGetter: (_, t) => `${t.method ?? ""} ${t.path ?? ""}` },
  { field: "status", headerName: "Status", width: 72, type: "number", cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "outcome", headerName: "Outcome", width: 130, valueGetter: (_, t) => (t.outcome === "ok" ? "ok" : `▼ ${t.reason ?? t.outcome ?? ""}`), cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "services", headerName: "Services", width: 84, type: "number", valueGetter: (_, t) => t.services.length },
  { field: "attempts", headerName: "Attempts", width: 84, type: "number" },
  { field: "failedAttempts", headerName: "Failed attempts", width: 114, type: "number", cellClassName: (p) => (p.row.failedAttempts > 0 ? "bad" : "") },
  { field: "durationMS", headerName: "Duration", width: 92, type: "number", valueFormatter: (v: number) => millis(v) },
];

/** Traces of the last hour, and one of them as a waterfall. */
export function TracesPage() {
  const { id } = useParams();
  const { mesh } = useLive();
  const [params, change] = useQuery();
  const navigate = useNavigate();
  const query: Query = { service: params.get("service") ?? "", outcome: params.get("outcome") ?? "", slowerThanMS: params.get("slowerThanMS") ?? "", limit: shown };
  const { value: list, error } = usePolled(`traces ${JSON.stringify(query)}`, pace, (signal) => readTraces(query, signal));
  const set = (name: string, value: string) => change({ [name]: value });
  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 1, mb: 1.25 }}>
        <Typography variant="h1">Traces</Typography>
        <Box sx={{ color: "text.secondary", flex: 1, minWidth: 240 }}>
          {list && <>Last hour. {percent(list.share)} of the requests without a trace context are traced{list.lost > 0 && `; ${plural(list.lost, "span")} dropped`}.</>}
        </Box>
        <TextField select size="small" label="Service" value={params.get("service") ?? ""} onChange={(e) => set("service", e.target.value)} sx={{ width: 150 }}>
          {["", ...(mesh?.services.map((s) => s.name) ?? [])].map((v) => <MenuItem key={v} value={v}>{v || "any"}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Outcome" value={params.get("outcome") ?? ""} onChange={(e) => set("outcome", e.target.value)} sx={{ width: 120 }}>
          {["", "ok", "not-ok", "failed", "refused", "abandoned", "caller-fault"].map((v) => <MenuItem key={v} value={v}>{v || "any"}</MenuItem>)}
        </TextField>
        <TextField select size="small" label="Slower than" value={params.get("slowerThanMS") ?? ""} onChange={(e) => set("slowerThanMS", e.target.value)} sx={{ width: 120 }}>
          {["", "10", "50", "100", "500", "1000"].map((v) => <MenuItem key={v} value={v}>{v ? `${v} ms` : "any"}</MenuItem>)}
        </TextField>
      </Box>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{error}</Alert>}
      {id && <Waterfall id={id} onClose={() => void navigate({ pathname: "/traces", search: params.toString() })} />}
      <Grid
        name="traces" columns={columns} rows={list?.traces ?? []} idOf={(t) => t.id} picked={list?.traces.find((t) => id && t.id.startsWith(id))?.id ?? null} height={560}
        onPick={(t) => void navigate({ pathname: `/traces/${t.id}`, search: params.toString() })} empty={list ? "No trace matches" : "Loading"}
      />
      {list && list.traces.some(bad) && !query.outcome && <Box sx={{ color: "text.secondary", mt: 0.5 }}>▼: failed or refused.</Box>}
    </>
  );
}
