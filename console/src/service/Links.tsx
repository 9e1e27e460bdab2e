import Box from "@mui/material/Box";
import type { GridColDef } from "@mui/x-data-grid";
import type { Link, Mesh } from "../api/client";
import { amount, millis, percent, rate, transports } from "../parts/format";
import { Grid } from "../parts/Grid";

const columns: GridColDef<Link>[] = [
  { field: "from", headerName: "From", width: 130 },
  { field: "to", headerName: "To", width: 130 },
  { field: "transport", headerName: "Transport", width: 104, valueFormatter: (v: string) => transports[v] ?? v },
  { field: "rps", headerName: "Req/s", width: 84, type: "number", valueGetter: (_, l) => l.figures.rps, valueFormatter: (v: number) => rate(v) },
  { field: "success", headerName: "Success", width: 82, type: "number", valueGetter: (_, l) => l.figures.success, valueFormatter: (v: number | null) => percent(v), cellClassName: (p) => ((p.row.figures.success ?? 1) < 0.99 ? "bad" : "") },
  { field: "workload", headerName: "Workload success", width: 124, type: "number", valueGetter: (_, l) => l.figures.workload?.success ?? null, valueFormatter: (v: number | null) => percent(v) },
  { field: "firstAttempt", headerName: "First attempt", width: 100, type: "number", valueGetter: (_, l) => l.figures.firstAttempt, valueFormatter: (v: number | null) => percent(v) },
  { field: "attempts", headerName: "Attempts/req", width: 98, type: "number", valueGetter: (_, l) => l.figures.attemptsPerRequest, valueFormatter: (v: number | null) => (v === null ? "–" : v.toFixed(2)) },
  ...(["p50MS", "p95MS", "p99MS"] as const).map((field): GridColDef<Link> => ({ field, headerName: field.slice(0, 3), width: 84, type: "number", valueGetter: (_, l) => l.figures[field], valueFormatter: (v: number) => millis(v) })),
  { field: "workloadP95", headerName: "Workload p95", width: 118, type: "number", valueGetter: (_, l) => l.figures.workload?.p95MS ?? 0, valueFormatter: (v: number) => millis(v) },
  { field: "responseBytes", headerName: "Responses", width: 90, type: "number", valueGetter: (_, l) => l.figures.responseBytes ?? 0, valueFormatter: (v: number) => amount(v) },
];

/** Links to and from a service or gateway. */
export default function Links({ mesh, name }: { mesh: Mesh; name: string }) {
  const rows = mesh.links.filter((l) => l.from === name || l.to === name);
  return (
    <Box data-test="links">
      <Grid name={`links of ${name}`} columns={columns} rows={rows} idOf={(l) => `${l.from}~${l.to}`} empty="No links" />
    </Box>
  );
}
