import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { readTrace, type TraceRow } from "../api/client";
import { Axis, type Stretch } from "../parts/Axis";
import { millis, plural } from "../parts/format";
import { usePolled } from "../parts/usePolled";

const pace = 5000; // spans of a long request come late

const label = (r: TraceRow): string =>
  r.kind === "request" ? `${r.caller ?? ""} → ${r.service ?? ""}` : r.kind === "try" ? `try ${r.instance ?? ""}` : r.kind === "app" ? `work of ${r.instance ?? ""}` : r.kind;

/** One trace: a row for each request, try, wait, and piece of work of a workload. */
export function Waterfall({ id, onClose }: { id: string; onClose: () => void }) {
  const { value: t, error } = usePolled(`trace ${id}`, pace, (signal) => readTrace(id, signal));
  if (!t) return error ? <Alert severity="info" onClose={onClose} sx={{ mb: 1 }}>{error}</Alert> : <Box sx={{ color: "text.secondary", mb: 1 }}>Reading the trace</Box>;
  const waits = new Set(["queue", "back-off", "delay"]);
  const rows = t.rows.map((r): Stretch => ({
    id: r.id, label: label(r), depth: r.depth, fromMS: r.fromMS, ms: r.ms, looks: waits.has(r.kind) ? "dotted" : r.kind === "try" ? "striped" : "solid",
    bad: Boolean(r.outcome) && r.outcome !== "ok", got: waits.has(r.kind) ? "" : (r.reason ?? (r.status ? String(r.status) : "")),
    title: [`${millis(r.ms)} from ${millis(r.fromMS)}`, r.path && `${r.method ?? ""} ${r.path}`, r.route && `route ${r.route}`, `proxy ${r.proxy}`, r.detail].filter(Boolean).join("; "),
  }));
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 1.25 }} data-test="waterfall">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5, mb: 0.5 }}>
        <Box component="strong">{t.method} {t.path}</Box>
        <Box sx={{ color: "text.secondary" }}>
          <time dateTime={t.at} title={t.at}>{new Date(t.at).toLocaleTimeString([], { hourCycle: "h23" })}</time>, {millis(t.ms)}, {plural(t.services.length, "service")}, {t.tries === 1 ? "1 try" : `${t.tries} tries`}
          {t.failed > 0 && <Box component="span" sx={{ color: "error.main", fontWeight: 650 }}>, ▼ {t.failed} without success</Box>}
        </Box>
        <Box component="code" sx={{ color: "text.secondary", fontSize: 11.5 }}>{t.id}</Box>
        <Button size="small" sx={{ ml: "auto" }} onClick={onClose}>Close</Button>
      </Box>
      <Axis rows={rows} ms={t.ms} />
      <Box sx={{ color: "text.secondary", fontSize: 11.5, mt: 0.5 }}>Solid: a request, or the work of a workload. Striped: a try. Dotted: a wait. Red with ▼: without success.</Box>
    </Paper>
  );
}
