import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import type { GridColDef } from "@mui/x-data-grid";
import { useState } from "react";
import type { Query } from "../api/client";
import { useLive } from "../api/live";
import { exactly, millis, plural } from "../parts/format";
import { Grid } from "../parts/Grid";
import { useQuery } from "../parts/useQuery";
import { Detail } from "./Detail";
import { useFeed, type Row } from "./useFeed";

const text = ["version", "route", "path", "status", "header"] as const;
const words: Record<(typeof text)[number], string> = { version: "Version", route: "Route", path: "Path prefix", status: "Status", header: "Header" };
const samples: Record<(typeof text)[number], string> = { version: "v2", route: "timetable", path: "/sailings", status: "503 or 5xx", header: "x-crew=yes" };
const outcomes = ["", "ok", "not-ok", "failed", "refused", "abandoned", "caller-fault"];
const fields = ["from", "to", "outcome", "reason", "slowerThanMS", "instance", "method", "attempts", ...text];

const columns: GridColDef<Row>[] = [
  { field: "at", headerName: "Time", width: 112, valueFormatter: (v: string) => exactly(v) },
  { field: "caller", headerName: "From", width: 110 },
  { field: "service", headerName: "To", width: 150, valueGetter: (_, r) => [r.service, r.version].filter(Boolean).join("/") },
  { field: "instance", headerName: "Instance", width: 140 },
  { field: "method", headerName: "Method", width: 76 },
  { field: "path", headerName: "Path", flex: 1, minWidth: 150 },
  { field: "route", headerName: "Route", width: 120, valueGetter: (_, r) => r.route ?? r.gatewayRoute ?? "" },
  { field: "status", headerName: "Status", width: 72, type: "number", cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "outcome", headerName: "Outcome", width: 150, valueGetter: (_, r) => (r.outcome === "ok" ? "ok" : `▼ ${[r.outcome, r.reason].filter(Boolean).join(": ")}`), cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "attempts", headerName: "Attempts", width: 84, type: "number", valueGetter: (_, r) => (r.segments ?? []).filter((t) => t.kind === "attempt").length },
  { field: "durationMS", headerName: "Duration", width: 92, type: "number", valueFormatter: (v: number) => millis(v) },
];

/** Live requests, with filters that the proxies apply. */
export function RequestsPage() {
  const { mesh } = useLive();
  const [params, change] = useQuery();
  const [paused, setPaused] = useState(false);
  const [picked, setPicked] = useState<Row | null>(null);
  const query: Query = Object.fromEntries(fields.map((f) => [f, params.get(f) ?? undefined]));
  const feed = useFeed(query, paused);
  const set = (name: string, value: string) => change({ [name]: value });
  const services = mesh?.services.map((s) => s.name) ?? [];
  const callers = [...(mesh?.gateways.map((g) => g.name) ?? []), ...services, "nightjar"];
  const choice = (name: string, label: string, list: string[], width: number) => (
    <TextField select size="small" label={label} value={params.get(name) ?? ""} onChange={(e) => set(name, e.target.value)} sx={{ width }} data-test={`filter-${name}`}>
      {[...new Set(["", ...list, params.get(name) ?? ""])].map((v) => <MenuItem key={v} value={v}>{v || "any"}</MenuItem>)}
    </TextField>
  );
  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 2, mb: 1.25 }}>
        <Typography variant="h1">Requests</Typography>
        <Box sx={{ color: "text.secondary" }}>Live, when they end. The proxies apply the filters, so narrow filters cost little.</Box>
      </Box>
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1.25 }}>
        {choice("from", "From", callers, 130)}
        {choice("to", "To", services, 140)}
        {choice("outcome", "Outcome", outcomes.slice(1), 146)}
        {text.map((name) => <Typed key={name} name={name} label={words[name]} sample={samples[name]} value={params.get(name) ?? ""} onSet={set} />)}
        <Typed name="slowerThanMS" label="Slower than (ms)" sample="200" value={params.get("slowerThanMS") ?? ""} onSet={set} />
        <Typed name="attempts" label="Attempts, at least" sample="2" value={params.get("attempts") ?? ""} onSet={set} />
        <Typed name="reason" label="Reason" sample="timeout" value={params.get("reason") ?? ""} onSet={set} />
        <Button variant={paused ? "contained" : "outlined"} onClick={() => setPaused(!paused)} data-test="pause">{paused ? "Resume" : "Pause"}</Button>
        {fields.some((f) => params.get(f)) && <Button onClick={() => change(Object.fromEntries(fields.map((f) => [f, null])))}>Clear filters</Button>}
      </Box>
      {feed.error && <Alert severity="warning" sx={{ mb: 1 }} data-test="feed-error">{feed.error}</Alert>}
      {feed.dropped > 0 && (
        <Alert severity="info" sx={{ mb: 1 }} data-test="dropped">
          {plural(feed.dropped, "more request")} matched and were dropped: there were too many. Use a narrower filter.
        </Alert>
      )}
      {picked && <Detail request={picked} onClose={() => setPicked(null)} />}
      <Box sx={{ color: "text.secondary", mb: 0.5 }} data-test="received" aria-live="polite">
        {plural(feed.came, "request")} so far{feed.rows.length < feed.came && `; the newest ${feed.rows.length} are below`}{paused && "; paused"}
      </Box>
      <Grid name="requests" columns={columns} rows={feed.rows} idOf={(r) => r.key} onPick={setPicked} picked={picked?.key ?? null} height={560} empty={paused ? "Paused" : "Waiting for a request that matches"} />
    </>
  );
}

/** A text field of the filter. It takes effect on Enter, or when the field loses focus. */
function Typed({ name, label, sample, value, onSet }: { name: string; label: string; sample: string; value: string; onSet: (name: string, value: string) => void }) {
  const [draft, setDraft] = useState<{ of: string; text: string }>({ of: value, text: value });
  const shown = draft.of === value ? draft.text : value;
  const done = () => {
    if (shown !== value) onSet(name, shown.trim());
  };
  return (
    <TextField
      size="small" label={label} placeholder={sample} value={shown} onChange={(e) => setDraft({ of: value, text: e.target.value })} onBlur={done}
      onKeyDown={(e) => { if (e.key === "Enter") done(); }} sx={{ width: 128 }} slotProps={{ htmlInput: { "data-test": `filter-${name}` } }}
    />
  );
}
