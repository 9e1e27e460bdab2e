import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { queries, words, type TraceSpan } from "../api/client";
import { TimeAxis, type AxisRow } from "../kit/TimeAxis";
import { millis, moment, plural } from "../kit/format";
import { type } from "../kit/theme";

const pace = 5000; // spans of a long request arrive late

const label = (r: TraceSpan): string =>
  r.kind === "request" ? `${r.caller ?? ""} → ${r.service ?? ""}` : r.kind === "attempt" ? `attempt ${r.instance ?? ""}` : r.kind === "workload" ? `workload ${r.instance ?? ""}` : r.kind;

/** One trace: a row for each request, attempt, wait and workload. */
export function Waterfall({ id, onClose }: { id: string; onClose: () => void }) {
  const { data: t, error } = queries.useQuery("get", "/api/v1/traces/{trace}", { params: { path: { trace: id } } }, { refetchInterval: pace });
  if (!t) return error ? <Alert severity="info" onClose={onClose} sx={{ mb: 1 }}>{words(error)}</Alert> : <Box sx={{ color: "text.secondary", mb: 1 }}>Loading the trace</Box>;
  const waits = new Set(["queue", "backoff", "delay"]);
  const rows = t.spans.map((r): AxisRow => ({
    id: r.id, label: r.site && t.sites.length > 1 ? `${label(r)} (${r.site})` : label(r), depth: r.depth, startMS: r.startMS, durationMS: r.durationMS, looks: waits.has(r.kind) ? "dotted" : r.kind === "attempt" ? "striped" : "solid",
    bad: Boolean(r.outcome) && r.outcome !== "ok", result: waits.has(r.kind) ? "" : (r.reason ?? (r.status ? String(r.status) : "")),
    title: [`${millis(r.durationMS)} from ${millis(r.startMS)}`, r.path && `${r.method ?? ""} ${r.path}`, r.route && `route ${r.route}`, `proxy ${r.proxy}`, r.site && `site ${r.site}`, r.detail].filter(Boolean).join("; "),
  }));
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 1.25 }} data-test="waterfall">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5, mb: 0.5 }}>
        <Box component="strong">{t.method} {t.path}</Box>
        <Box sx={{ color: "text.secondary" }}>
          <time dateTime={t.at} title={t.at}>{moment(t.at)}</time>, {millis(t.durationMS)}, {plural(t.services.length, "service")}, {plural(t.attempts, "attempt")}
          {t.failedAttempts > 0 && <Box component="span" sx={{ color: "error.main", fontWeight: 650 }}>, ▼ {t.failedAttempts} failed</Box>}
        </Box>
        <Box component="code" sx={{ color: "text.secondary", fontSize: type.small }}>{t.id}</Box>
        <Button sx={{ ml: "auto" }} onClick={onClose}>Close</Button>
      </Box>
      <TimeAxis rows={rows} ms={t.durationMS} />
      <Box sx={{ color: "text.secondary", fontSize: type.small, mt: 0.5 }}>Solid: request or workload. Striped: attempt. Dotted: wait. Red with ▼: failed or refused.</Box>
    </Paper>
  );
}
