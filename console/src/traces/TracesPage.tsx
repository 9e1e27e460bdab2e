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
import { useRange } from "../kit/range";
import { Waterfall } from "./Waterfall";

const pace = 2000;
const shown = 200;

const bad = (t: TraceSummary) => t.outcome !== "ok" || t.failedAttempts > 0;

const columns: Column<TraceSummary>[] = [
  { field: "id", headerName: "Trace", width: 76, valueFormatter: (v: string) => v.slice(0, 8) },
  { field: "at", headerName: "Time", width: 102, valueFormatter: (v: string) => exactly(v) },
  { field: "caller", headerName: "From", width: 86 },
  { field: "service", headerName: "To", width: 80 },
  { field: "path", headerName: "Request", flex: 1, minWidth: 120, valueGetter: (_, t) => `${t.method ?? ""} ${t.path ?? ""}` },
  { field: "status", headerName: "Status", width: 60, type: "number", cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "outcome", headerName: "Outcome", width: 90, valueGetter: (_, t) => (t.outcome === "ok" ? "ok" : `▼ ${t.reason ?? t.outcome ?? ""}`), cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "services", headerName: "Services", width: 74, type: "number", valueGetter: (_, t) => t.services.length },
  { field: "attempts", headerName: "Attempts", width: 80, align: "right", headerAlign: "right", valueGetter: (_, t) => (t.failedAttempts > 0 ? `▼ ${t.failedAttempts} of ${t.attempts}` : String(t.attempts)), cellClassName: (p) => (p.row.failedAttempts > 0 ? "bad" : "") },
  { field: "durationMS", headerName: "Duration", width: 78, type: "number", valueFormatter: (v: number) => millis(v) },
  { field: "sites", headerName: "Sites", width: 172, valueGetter: (_, t) => t.sites.join(", ") },
];

/** Without the column of sites, where there are none. */
const plainColumns = columns.filter((c) => c.field !== "sites");
const hasSitesOf = (mesh: Mesh | null) => (mesh?.sites.length ?? 0) > 0;

const namesOf = (mesh: Mesh | null) => mesh?.services.map((s) => s.name) ?? [];

const outcomes = ["", "ok", "not-ok", "failed", "refused", "abandoned", "caller-fault"];

/** Traces of the last hour, and one of them as a waterfall. */
export function TracesPage() {
  const { id } = useParams<{ id?: string }>();
  const services = useMesh(namesOf);
  const hasSites = useMesh(hasSitesOf);
  const { site } = useRange();
  const [params, change] = useAddress();
  const navigate = useNavigate();
  const [service, outcome, slower] = ["service", "outcome", "slowerThanMS"].map((name) => params.get(name) ?? "") as [string, string, string];
  const query = { limit: shown, ...(service ? { service } : {}), ...(site ? { site } : {}), ...(outcome ? { outcome } : {}), ...(slower ? { slowerThanMS: Number(slower) } : {}) };
  const { data: list, error } = queries.useQuery("get", "/api/v1/traces", { params: { query } }, { refetchInterval: pace, placeholderData: keepPreviousData });
  const line = ["nightjar traces", service && `--service ${shellWord(service)}`, site && `--site ${shellWord(site)}`, outcome && `--outcome ${outcome}`, slower && `--slower-than ${slower}ms`].filter(Boolean).join(" ");
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
        name="traces" columns={hasSites ? columns : plainColumns} rows={list?.traces ?? []} idOf={(t) => t.id} picked={list?.traces.find((t) => id && t.id.startsWith(id))?.id ?? null} height={tall}
        onPick={(t) => navigate(`/traces/${t.id}${window.location.search}`)} empty={list ? (params.size > 0 ? "No trace matches" : "No request was traced in the last hour: nightjar serve --trace-share chooses how many are") : "Loading"}
      />
      {list && list.traces.some(bad) && !outcome && <Box sx={{ color: "text.secondary", mt: 0.5 }}>▼: failed or refused.</Box>}
    </>
  );
}
