import type { Service, Schemas } from "../api/client";
import { DataTable, figure, type Column } from "../kit/DataTable";
import { millis, percent, rate } from "../kit/format";
import { VersionMark } from "../kit/VersionMark";

type Version = Schemas["Version"];
type Row = Version & { service: string; isStray: boolean };

const columns: Column<Row>[] = [
  {
    field: "name", headerName: "Version", flex: 1, minWidth: 130,
    renderCell: ({ row }) => <span data-test={`version-${row.name}`}><VersionMark service={row.service} version={row.name} /><strong>{row.name}</strong>{row.isStray && " not in the rules"}</span>,
  },
  figure("instances", { name: "Instances", of: (v) => v.instances.length, write: (n) => (n === 0 ? "none" : String(n)), isBad: (v) => v.instances.length === 0 }),
  figure("intended", { name: "Intended", of: (v) => v.intended, write: percent }),
  figure("observed", { name: "Observed", of: (v) => v.observed, write: percent }),
  figure("rps", { name: "Req/s", of: (v) => v.figures.rps, write: rate }),
  figure("success", { name: "Success", of: (v) => v.figures.success, write: percent, isBad: (v) => (v.figures.success ?? 1) < 0.99 }),
  figure("workload", { name: "Workload success", width: 140, of: (v) => v.figures.workload?.success, write: percent }),
  figure("firstAttempt", { name: "First attempt", width: 104, of: (v) => v.figures.firstAttempt, write: percent }),
  figure("attempts", { name: "Attempts/req", width: 104, of: (v) => v.figures.attemptsPerRequest, write: (n) => n.toFixed(2) }),
  ...(["p50MS", "p95MS", "p99MS"] as const).map((f) => figure<Row>(f, { name: f.slice(0, 3), of: (v) => v.figures[f] || null, write: millis })),
];

/** The versions of a service with their intended and observed shares. */
export function Versions({ service }: { service: Service }) {
  const rows = service.versions.map((v): Row => ({ ...v, service: service.name, isStray: !v.isDeclared && service.isDeclared }));
  return <DataTable name={`versions of ${service.name}`} columns={columns} rows={rows} idOf={(v) => v.name} empty="No versions" isPlain />;
}
