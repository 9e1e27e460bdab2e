import Box from "@mui/material/Box";
import type { GridColDef } from "@mui/x-data-grid";
import type { Link, Mesh } from "../api/client";
import { amount, millis, percent, rate } from "../parts/format";
import { Grid } from "../parts/Grid";

const columns: GridColDef<Link>[] = [
  { field: "from", headerName: "From", width: 130 },
  { field: "to", headerName: "To", width: 130 },
  { field: "hop", headerName: "Hop", width: 70 },
  { field: "rps", headerName: "A second", width: 84, type: "number", valueGetter: (_, l) => l.figures.rps, valueFormatter: (v: number) => rate(v) },
  { field: "success", headerName: "Success", width: 82, type: "number", valueGetter: (_, l) => l.figures.success, valueFormatter: (v: number | null) => percent(v), cellClassName: (p) => ((p.row.figures.success ?? 1) < 0.99 ? "bad" : "") },
  { field: "app", headerName: "Workload's", width: 92, type: "number", valueGetter: (_, l) => l.figures.app?.success ?? null, valueFormatter: (v: number | null) => percent(v) },
  { field: "firstTry", headerName: "First try", width: 82, type: "number", valueGetter: (_, l) => l.figures.firstTry, valueFormatter: (v: number | null) => percent(v) },
  { field: "load", headerName: "Load", width: 66, type: "number", valueGetter: (_, l) => l.figures.loadFactor, valueFormatter: (v: number | null) => (v === null ? "–" : v.toFixed(2)) },
  ...(["p50MS", "p95MS", "p99MS"] as const).map((field): GridColDef<Link> => ({ field, headerName: field.slice(0, 3), width: 84, type: "number", valueGetter: (_, l) => l.figures[field], valueFormatter: (v: number) => millis(v) })),
  { field: "appP95", headerName: "Workload's p95", width: 118, type: "number", valueGetter: (_, l) => l.figures.app?.p95MS ?? 0, valueFormatter: (v: number) => millis(v) },
  { field: "received", headerName: "Received", width: 88, type: "number", valueGetter: (_, l) => l.figures.received ?? 0, valueFormatter: (v: number) => amount(v) },
];

/** Who calls a service or gateway, and whom it calls. */
export default function Links({ mesh, name }: { mesh: Mesh; name: string }) {
  const rows = mesh.links.filter((l) => l.from === name || l.to === name);
  return (
    <Box data-test="links">
      <Grid name={`links of ${name}`} columns={columns} rows={rows} idOf={(l) => `${l.from}~${l.to}`} empty="Nobody calls it, and it calls nobody" />
    </Box>
  );
}
