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
  { field: "state", headerName: "State", width: 150, cellClassName: (p) => (p.row.state === "takes requests" ? "" : "bad") },
  { field: "share", headerName: "Of its version", width: 104, type: "number", valueFormatter: (v: number | null) => percent(v) },
  { field: "rps", headerName: "A second", width: 84, type: "number", valueGetter: (_, r) => r.figures.rps, valueFormatter: (v: number) => rate(v) },
  { field: "success", headerName: "Success", width: 82, type: "number", valueGetter: (_, r) => r.figures.success, valueFormatter: (v: number | null) => percent(v) },
  { field: "app", headerName: "Workload's", width: 92, type: "number", valueGetter: (_, r) => r.figures.app?.success ?? null, valueFormatter: (v: number | null) => percent(v) },
  { field: "p95", headerName: "p95", width: 84, type: "number", valueGetter: (_, r) => r.figures.p95MS, valueFormatter: (v: number) => millis(v) },
  { field: "appP95", headerName: "Workload's p95", width: 118, type: "number", valueGetter: (_, r) => r.figures.app?.p95MS ?? 0, valueFormatter: (v: number) => millis(v) },
];

/** The instances of a service with their health and sidelining. */
export default function Instances({ service }: { service: Service }) {
  const out = new Map<string, number>();
  for (const o of service.callers.flatMap((c) => (c.versions ?? []).flatMap((v) => v.sidelined ?? []))) out.set(o.instance, (out.get(o.instance) ?? 0) + 1);
  const lost = new Map<string, number>();
  for (const o of service.callers.flatMap((c) => (c.versions ?? []).flatMap((v) => v.unreachable ?? []))) lost.set(o.instance, (lost.get(o.instance) ?? 0) + 1);
  const rows = service.versions.flatMap((v) =>
    v.instances.map((i): Row => {
      const sidelined = out.get(i.id);
      const unreachable = lost.get(i.id);
      const state = [unreachable && `▼ unreachable for ${unreachable} of ${service.callers.length}`, i.unreachable && "▼ its proxy cannot reach it", i.down && `▼ unhealthy: ${i.down}`, sidelined && `⊘ sidelined in ${sidelined} of ${service.callers.length}`, i.doubted && "▲ doubted"].filter(Boolean).join("; ");
      return { id: i.id, version: v.name, site: i.site ?? "", address: i.address, state: state || "takes requests", share: i.share, figures: i.figures };
    }),
  );
  return <Grid name={`instances of ${service.name}`} columns={columns} rows={rows} idOf={(r) => r.id} empty="None runs now" />;
}
