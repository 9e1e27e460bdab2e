import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { keepPreviousData } from "@tanstack/react-query";
import { useParams } from "wouter";
import { queries, words, type Mesh, type TraceSummary } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress, useNavigate } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { DataTable, tall, type Column } from "../kit/DataTable";
import { exactly, millis, percent, plural } from "../kit/format";
import { PageHeader } from "../kit/PageHeader";
import { Waterfall } from "./Waterfall";

const pace = 2000;
const shown = 200;

const bad = (t: TraceSummary) => t.outcome !== "ok" || t.failedAttempts > 0;

const columns: Column<TraceSummary>[] = [
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

const namesOf = (mesh: Mesh | null) => mesh?.services.map((s) => s.name) ?? [];

const outcomes = ["", "ok", "not-ok", "failed", "refused", "abandoned", "caller-fault"];

/** Traces of the last hour, and one of them as a waterfall. */
export function TracesPage() {
  const { id } = useParams<{ id?: string }>();
  const services = useMesh(namesOf);
  const [params, change] = useAddress();
  const navigate = useNavigate();
  const [service, outcome, slower] = ["service", "outcome", "slowerThanMS"].map((name) => params.get(name) ?? "") as [string, string, string];
  const query = { limit: shown, ...(service ? { service } : {}), ...(outcome ? { outcome } : {}), ...(slower ? { slowerThanMS: Number(slower) } : {}) };
  const { data: list, error } = queries.useQuery("get", "/api/v1/traces", { params: { query } }, { refetchInterval: pace, placeholderData: keepPreviousData });
  const line = ["nightjar traces", service && `--service ${shellWord(service)}`, outcome && `--outcome ${outcome}`, slower && `--slower-than ${slower}ms`].filter(Boolean).join(" ");
  const choice = (name: string, label: string, value: string, list: string[], write = (v: string) => v) => (
    <TextField select label={label} value={value} onChange={(e) => change({ [name]: e.target.value })} sx={{ width: 140 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      {[...new Set(["", ...list, value])].map((v) => <MenuItem key={v} value={v}>{v ? write(v) : "any"}</MenuItem>)}
    </TextField>
  );
  return (
    <>
      <PageHeader
        title="Traces" actions={<CopyAsCommand line={id ? `nightjar traces ${id}` : line} />}
        about={list && <>Last hour. {percent(list.share)} of the requests without a trace context are traced{list.lost > 0 && `; ${plural(list.lost, "span")} dropped`}.</>}
      />
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1.5 }}>
        {choice("service", "Service", service, services)}
        {choice("outcome", "Outcome", outcome, outcomes)}
        {choice("slowerThanMS", "Slower than", slower, ["10", "50", "100", "500", "1000"], (v) => `${v} ms`)}
      </Box>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{words(error)}</Alert>}
      {id && <Waterfall id={id} onClose={() => navigate(`/traces${window.location.search}`)} />}
      <DataTable
        name="traces" columns={columns} rows={list?.traces ?? []} idOf={(t) => t.id} picked={list?.traces.find((t) => id && t.id.startsWith(id))?.id ?? null} height={tall}
        onPick={(t) => navigate(`/traces/${t.id}${window.location.search}`)} empty={list ? (params.size > 0 ? "No trace matches" : "No request was traced in the last hour: nightjar serve --trace-share chooses how many are") : "Loading"}
      />
      {list && list.traces.some(bad) && !outcome && <Box sx={{ color: "text.secondary", mt: 0.5 }}>▼: failed or refused.</Box>}
    </>
  );
}
