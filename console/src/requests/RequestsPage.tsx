import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { DataTable, tall, type Column } from "../kit/DataTable";
import { exactly, millis, plural } from "../kit/format";
import { PageHeader } from "../kit/PageHeader";
import { Detail } from "./Detail";
import { useFeed, type Row } from "./useFeed";

const text = ["version", "route", "path", "status", "header"] as const;
const words: Record<(typeof text)[number], string> = { version: "Version", route: "Route", path: "Path prefix", status: "Status", header: "Header" };
const samples: Record<(typeof text)[number], string> = { version: "v2", route: "timetable", path: "/sailings", status: "503 or 5xx", header: "x-crew=yes" };
const outcomes = ["", "ok", "not-ok", "failed", "refused", "abandoned", "caller-fault"];
const fields = ["from", "to", "outcome", "reason", "slowerThanMS", "instance", "method", "attempts", "site", ...text];

const columns: Column<Row>[] = [
  { field: "at", headerName: "Time", width: 108, valueFormatter: (v: string) => exactly(v) },
  { field: "status", headerName: "Status", width: 66, type: "number", cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "outcome", headerName: "Outcome", width: 130, valueGetter: (_, r) => (r.outcome === "ok" ? "ok" : `▼ ${[r.outcome, r.reason].filter(Boolean).join(": ")}`), cellClassName: (p) => (p.row.outcome === "ok" ? "" : "bad") },
  { field: "caller", headerName: "From", width: 110 },
  { field: "service", headerName: "To", width: 120, valueGetter: (_, r) => [r.service, r.version].filter(Boolean).join("/") },
  { field: "path", headerName: "Request", flex: 1, minWidth: 170, valueGetter: (_, r) => `${r.method ?? ""} ${r.path ?? ""}` },
  { field: "route", headerName: "Route", width: 110, valueGetter: (_, r) => r.route ?? r.gatewayRoute ?? "" },
  { field: "instance", headerName: "Instance", width: 130 },
  { field: "attempts", headerName: "Attempts", width: 80, type: "number", valueGetter: (_, r) => (r.segments ?? []).filter((t) => t.kind === "attempt").length },
  { field: "durationMS", headerName: "Duration", width: 86, type: "number", valueFormatter: (v: number) => millis(v) },
];

const namesOf = (mesh: Mesh | null) => ({ services: mesh?.services.map((s) => s.name) ?? [], gateways: mesh?.gateways.map((g) => g.name) ?? [] });

/** The flag of the command for each field. */
const flags: Record<string, string> = { slowerThanMS: "slower-than", attempts: "attempts" };

/** Live requests, with filters that the proxies apply. */
export function RequestsPage() {
  const { services, gateways } = useMesh(namesOf);
  const [params, change] = useAddress();
  const [paused, setPaused] = useState(false);
  const [picked, setPicked] = useState<Row | null>(null);
  const filter = fields.flatMap((f): [string, string][] => (params.get(f) ? [[f, params.get(f) ?? ""]] : []));
  const feed = useFeed(new URLSearchParams(filter).toString(), paused);
  const line = `nightjar requests${filter.map(([f, v]) => ` --${flags[f] ?? f} ${shellWord(f === "slowerThanMS" ? `${v}ms` : v)}`).join("")}`;
  const set = (name: string, value: string) => change({ [name]: value });
  const callers = [...gateways, ...services, "nightjar"];
  const choice = (name: string, label: string, list: string[], width: number) => (
    <TextField select label={label} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} value={params.get(name) ?? ""} onChange={(e) => set(name, e.target.value)} sx={{ width }} data-test={`filter-${name}`}>
      {[...new Set(["", ...list, params.get(name) ?? ""])].map((v) => <MenuItem key={v} value={v}>{v || "any"}</MenuItem>)}
    </TextField>
  );
  return (
    <>
      <PageHeader title="Requests" about="Live, when they end. The proxies apply the filters, so narrow filters cost little." actions={<CopyAsCommand line={line} />} />
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1.5 }}>
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
      <Box sx={{ color: "text.secondary", mb: 0.5 }} data-test="received">
        {plural(feed.came, "request")} so far{feed.rows.length < feed.came && `; the newest ${feed.rows.length} are below`}{paused && "; paused"}
      </Box>
      <DataTable name="requests" columns={columns} rows={feed.rows} idOf={(r) => r.key} onPick={setPicked} picked={picked?.key ?? null} height={tall} empty={paused ? "Paused" : "Waiting for a request that matches"} />
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
      label={label} placeholder={sample} value={shown} onChange={(e) => setDraft({ of: value, text: e.target.value })} onBlur={done}
      onKeyDown={(e) => { if (e.key === "Enter") done(); }} sx={{ width: 128 }} slotProps={{ htmlInput: { "data-test": `filter-${name}` }, inputLabel: { shrink: true } }}
    />
  );
}
