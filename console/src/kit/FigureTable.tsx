import Box from "@mui/material/Box";
import type { Figures } from "../api/client";
import { FactTable } from "./FactTable";
import { amount, millis, percent, plural, rate } from "./format";

/** What callers got beside what the workloads answered; the difference is what the mesh adds or prevents. */
export function FigureTable({ figures: f }: { figures: Figures }) {
  const a = f.workload;
  const rows: [string, string, string, string][] = [
    ["requests", String(f.requests), a ? String(a.requests) : "–", a && f.requests > 0 && a.requests !== f.requests ? `${a.requests > f.requests ? "+" : "−"}${Math.abs(a.requests - f.requests)} attempts` : ""],
    ["req/s", rate(f.rps), a ? rate(a.rps) : "–", ""],
    ["success", `${percent(f.success)}`, percent(a?.success), a && typeof f.success === "number" && typeof a.success === "number" ? saved(f.success - a.success) : ""],
    ["p50", millis(f.p50MS), a ? millis(a.p50MS) : "–", added(f.p50MS, a?.p50MS)],
    ["p95", millis(f.p95MS), a ? millis(a.p95MS) : "–", added(f.p95MS, a?.p95MS)],
    ["p99", millis(f.p99MS), a ? millis(a.p99MS) : "–", added(f.p99MS, a?.p99MS)],
  ];
  const reasons = Object.entries(f.reasons ?? {}).sort(([, a], [, b]) => b - a);
  const counts = [f.failed > 0 && `${f.failed} failed`, f.refused > 0 && `${f.refused} refused`, (f.abandoned ?? 0) > 0 && `${f.abandoned} abandoned`, ...reasons.map(([k, n]) => `${k} ${n}`)].filter(Boolean);
  return (
    <Box data-test="sides">
      <FactTable
        head={["Figures", "Callers", "Workloads", "Difference"]} figuresFrom={1}
        rows={rows.map(([name, callers, app, difference]) => ({ key: name, cells: [name, <b key="callers">{callers}</b>, app, <Box key="difference" component="span" sx={{ color: "text.secondary" }}>{difference}</Box>] }))}
      />
      <Box sx={{ color: "text.secondary", mt: 0.5 }}>
        {f.requests > 0 && <>success {percent(f.successLow)} to {percent(f.successHigh)} (95%), first attempt {percent(f.firstAttempt)}, {f.attemptsPerRequest?.toFixed(2) ?? "–"} attempts per request; </>}
        requests {amount(f.requestBytes ?? 0)}, responses {amount(f.responseBytes ?? 0)}
        {(f.openConnections ?? 0) > 0 && `; ${f.openConnections} open connections`}
        {(f.callerFault ?? 0) > 0 && `; ${plural(f.callerFault ?? 0, "request")} with a fault of the caller, not counted here`}
      </Box>
      {counts.length > 0 && <Box sx={{ color: "error.main", fontWeight: 600 }}>▼ {counts.join(", ")}</Box>}
    </Box>
  );
}

function saved(difference: number): string {
  const points = 100 * difference;
  if (Math.abs(points) < 0.05) return "";
  return `${points > 0 ? "+" : "−"}${Math.abs(points).toFixed(1)} points`;
}

function added(callers: number, app: number | undefined): string {
  if (!app || !callers) return "";
  const ms = callers - app;
  return Math.abs(ms) < 0.005 ? "" : `${ms > 0 ? "+" : "−"}${millis(Math.abs(ms))}`;
}
