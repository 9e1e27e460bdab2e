import type { GridColDef } from "@mui/x-data-grid";
import type { Figures, Service } from "../api/client";
import { millis, percent, rate } from "../parts/format";
import { Grid } from "../parts/Grid";

interface Row {
  id: string;
  version: string;
  site: string;
  address: string;
  state: string;
  share: number | null;
  figures: Figures;
}

const columns: GridColDef<Row>[] = [
  { field: "version", headerName: "Version", width: 80 },
  { field: "id", headerName: "Instance", flex: 1, minWidth: 160 },
  { field: "site", headerName: "Site", width: 96 },
  { field: "address", headerName: "Address", width: 138 },
  { field: "state", headerName: "State", width: 150, cellClassName: (p) => (p.row.state === "in use" ? "" : "bad") },
  { field: "share", headerName: "Share", width: 104, type: "number", valueFormatter: (v: number | null) => percent(v) },
  { field: "rps", headerName: "Req/s", width: 84, type: "number", valueGetter: (_, r) => r.figures.rps, valueFormatter: (v: number) => rate(v) },
  { field: "success", headerName: "Success", width: 82, type: "number", valueGetter: (_, r) => r.figures.success, valueFormatter: (v: number | null) => percent(v) },
  { field: "workload", headerName: "Workload success", width: 124, type: "number", valueGetter: (_, r) => r.figures.workload?.success ?? null, valueFormatter: (v: number | null) => percent(v) },
  { field: "p95", headerName: "p95", width: 84, type: "number", valueGetter: (_, r) => r.figures.p95MS, valueFormatter: (v: number) => millis(v) },
  { field: "workloadP95", headerName: "Workload p95", width: 118, type: "number", valueGetter: (_, r) => r.figures.workload?.p95MS ?? 0, valueFormatter: (v: number) => millis(v) },
];

/** The instances of a service with their health and sidelining. */
export default function Instances({ service }: { service: Service }) {
  const out = new Map<string, number>();
  for (const o of service.guards.flatMap((c) => (c.versions ?? []).flatMap((v) => v.sidelined ?? []))) out.set(o.instance, (out.get(o.instance) ?? 0) + 1);
  const lost = new Map<string, number>();
  for (const o of service.guards.flatMap((c) => (c.versions ?? []).flatMap((v) => v.unreachable ?? []))) lost.set(o.instance, (lost.get(o.instance) ?? 0) + 1);
  const rows = service.versions.flatMap((v) =>
    v.instances.map((i): Row => {
      const sidelined = out.get(i.id);
      const unreachable = lost.get(i.id);
      const state = [unreachable && `▼ unreachable from ${unreachable} of ${service.guards.length}`, i.unreachable && "▼ workload unreachable", i.unhealthy && `▼ unhealthy: ${i.unhealthy}`, sidelined && `⊘ sidelined in ${sidelined} of ${service.guards.length}`, i.isUnconfirmed && "▲ unconfirmed"].filter(Boolean).join("; ");
      return { id: i.id, version: v.name, site: i.site ?? "", address: i.address, state: state || "in use", share: i.share, figures: i.figures };
    }),
  );
  return <Grid name={`instances of ${service.name}`} columns={columns} rows={rows} idOf={(r) => r.id} empty="No instances" />;
}
