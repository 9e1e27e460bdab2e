import type { Link, Mesh } from "../api/client";
import { DataTable, figure, type Column } from "../kit/DataTable";
import { amount, millis, percent, rate, transports } from "../kit/format";

export const linkColumns: Column<Link>[] = [
  { field: "from", headerName: "From", flex: 1, minWidth: 120 },
  { field: "to", headerName: "To", flex: 1, minWidth: 120 },
  { field: "transport", headerName: "Transport", width: 104, valueFormatter: (v: string) => transports[v] ?? v },
  figure("rps", { name: "Req/s", width: 84, of: (l) => l.figures.rps, write: rate }),
  figure("success", { name: "Success", width: 82, of: (l) => l.figures.success, write: percent, isBad: (l) => (l.figures.success ?? 1) < 0.99 }),
  figure("workload", { name: "Workload success", width: 140, of: (l) => l.figures.workload?.success, write: percent }),
  figure("firstAttempt", { name: "First attempt", width: 104, of: (l) => l.figures.firstAttempt, write: percent }),
  figure("attempts", { name: "Attempts/req", width: 104, of: (l) => l.figures.attemptsPerRequest, write: (n) => n.toFixed(2) }),
  ...(["p50MS", "p95MS", "p99MS"] as const).map((f) => figure<Link>(f, { name: f.slice(0, 3), width: 84, of: (l) => l.figures[f] || null, write: millis })),
  figure("workloadP95", { name: "Workload p95", width: 118, of: (l) => l.figures.workload?.p95MS || null, write: millis }),
  figure("responseBytes", { name: "Responses", width: 96, of: (l) => l.figures.responseBytes ?? 0, write: amount }),
];

/** Links to and from a service or gateway. */
export function Links({ mesh, name }: { mesh: Mesh; name: string }) {
  const rows = mesh.links.filter((l) => l.from === name || l.to === name);
  return <DataTable name={`links of ${name}`} columns={linkColumns} rows={rows} idOf={(l) => `${l.from}~${l.to}`} empty="No requests to or from here in this time" />;
}
