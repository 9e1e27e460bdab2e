import type { Figures, Mesh, Route, Service } from "../api/client";
import { figure, type Column } from "../kit/DataTable";
import { millis, percent, rate } from "../kit/format";
import { Place } from "../kit/Place";
import { Sparkline } from "../kit/Sparkline";

/** A service, a gateway, or a group of them. */
export interface Row {
  name: string;
  kind: "service" | "gateway" | "group";
  service?: Service;
  owner: string;
  versions: string;
  instances: number;
  rps: number;
  requests: number;
  ok: number;
  success: number | null;
  workload: number | null;
  p95: number | null;
  /** Success over the time of the page. */
  history: (number | null)[];
  /** What needs attention, in words. */
  wrong: string[];
}

const least = 0.99; // success below it needs attention

function wrongOf(figures: Figures, more: (string | false)[]): string[] {
  const low = figures.success !== null && figures.success < least;
  const worst = Object.entries(figures.reasons ?? {}).sort(([, a], [, b]) => b - a)[0];
  return [...(low ? [`▼ ${percent(figures.success)} succeed${worst ? `, mostly ${worst[0]}` : ""}`] : []), ...more.filter((m) => m !== false)];
}

function wrongOfService(s: Service): string[] {
  const versions = s.guards.flatMap((g) => g.versions ?? []);
  const open = new Set(versions.filter((v) => v.breaker?.state === "open").map((v) => v.version));
  const out = new Set(versions.flatMap((v) => (v.sidelined ?? []).map((o) => o.instance)));
  const lost = new Set(versions.flatMap((v) => (v.unreachable ?? []).map((o) => o.instance)));
  const ill = s.versions.flatMap((v) => v.instances.filter((i) => i.unhealthy || i.unreachable).map((i) => i.id));
  const empty = s.versions.filter((v) => v.isDeclared && v.instances.length === 0 && (v.intended ?? 0) > 0).map((v) => v.name);
  return wrongOf(s.figures, [
    open.size > 0 && `breaker of ${[...open].join(", ")} open`,
    out.size > 0 && `⊘ ${[...out].join(", ")} sidelined`,
    lost.size > 0 && `▼ ${[...lost].join(", ")} unreachable`,
    ill.length > 0 && `▼ ${ill.join(", ")} unhealthy`,
    empty.length > 0 && `▼ ${empty.join(", ")} without instances`,
  ]);
}

const figuresOf = (f: Figures) => ({ rps: f.rps, requests: f.requests, ok: f.ok, success: f.success, workload: f.workload?.success ?? null, p95: f.requests > 0 ? f.p95MS : null });

/** A row for each service and gateway; those that need attention first, then by their requests. */
export function rowsOfServices(mesh: Mesh, success: Map<string, (number | null)[]>): Row[] {
  const rows: Row[] = [
    ...mesh.services.map((service): Row => ({
      name: service.name, kind: "service", service, owner: service.team ?? service.owner ?? "", versions: service.versions.map((v) => v.name).join(", "),
      instances: service.versions.reduce((sum, v) => sum + v.instances.length, 0), ...figuresOf(service.figures), history: success.get(service.name) ?? [], wrong: wrongOfService(service),
    })),
    ...mesh.gateways.map((g): Row => ({
      name: g.name, kind: "gateway", owner: "", versions: "gateway", instances: 0, ...figuresOf(g.figures), history: [], wrong: wrongOf(g.figures, [!g.isRunning && "no proxy serves it"]),
    })),
  ];
  return rows.sort((a, b) => b.wrong.length - a.wrong.length || (a.success ?? 2) - (b.success ?? 2) || b.rps - a.rps || a.name.localeCompare(b.name));
}

/** One row for each group. Percentiles cannot be added, so a group has none. */
export function sumUp(rows: Row[], groupOf: (r: Row) => string): Row[] {
  return [...Map.groupBy(rows, groupOf)].map(([name, list]): Row => {
    const requests = list.reduce((sum, r) => sum + r.requests, 0);
    const ok = list.reduce((sum, r) => sum + r.ok, 0);
    return {
      name, kind: "group", owner: "", versions: `${list.length} of them`, instances: list.reduce((sum, r) => sum + r.instances, 0), rps: list.reduce((sum, r) => sum + r.rps, 0), requests, ok,
      success: requests > 0 ? ok / requests : null, workload: null, p95: null, history: [], wrong: list.filter((r) => r.wrong.length > 0).map((r) => r.name),
    };
  });
}

export const serviceColumns: Column<Row>[] = [
  { field: "name", headerName: "Name", flex: 1, minWidth: 150, cellClassName: "strong" },
  { field: "wrong", headerName: "Attention", flex: 1.4, minWidth: 190, valueGetter: (_, r) => r.wrong.join("; "), cellClassName: "bad" },
  { field: "owner", headerName: "Owner", width: 140 },
  { field: "versions", headerName: "Versions", width: 104 },
  figure("instances", { name: "Instances", width: 88, of: (r) => r.instances || null, write: String }),
  figure("rps", { name: "Req/s", width: 80, of: (r) => r.rps || null, write: rate }),
  figure("success", { name: "Success", width: 84, of: (r) => r.success, write: percent, isBad: (r) => (r.success ?? 1) < least }),
  { field: "history", headerName: "Success over time", width: 150, display: "flex", sortable: false, filterable: false, disableExport: true, renderCell: ({ row }) => <Sparkline values={row.history} label={`Success of ${row.name} over time`} /> },
  figure("workload", { name: "Workload success", width: 140, of: (r) => r.workload, write: percent }),
  figure("p95", { name: "p95", width: 80, of: (r) => r.p95, write: millis }),
];

/** A route with the service or gateway that it belongs to. */
export interface RouteRow {
  parent: string;
  isGateway: boolean;
  number: number;
  route: Route;
}

export function rowsOfRoutes(mesh: Mesh): RouteRow[] {
  const of = (parent: string, routes: Route[], isGateway: boolean) => routes.map((route, i): RouteRow => ({ parent, isGateway, number: i + 1, route }));
  return [...mesh.gateways.flatMap((g) => of(g.name, g.routes, true)), ...mesh.services.flatMap((s) => of(s.name, s.routes, false))];
}

export const routeColumns: Column<RouteRow>[] = [
  { field: "parent", headerName: "Service or gateway", width: 150 },
  { field: "number", headerName: "Order", width: 64, type: "number" },
  { field: "name", headerName: "Route", width: 150, valueGetter: (_, r) => r.route.name, cellClassName: "strong" },
  { field: "when", headerName: "When", flex: 1, minWidth: 200, valueGetter: (_, r) => r.route.when.join("; or ") || "every other request" },
  { field: "send", headerName: "Sends to", width: 190, valueGetter: (_, r) => r.route.send.map((t) => `${t.target} ${t.weight}%`).join(", ") || (r.route.settings.find((s) => s.name === "redirect" || s.name === "reply")?.name ?? "") },
  figure("share", { name: "Share", width: 80, of: (r) => r.route.share, write: percent }),
  figure("rps", { name: "Req/s", width: 80, of: (r) => r.route.figures.rps || null, write: rate }),
  figure("success", { name: "Success", width: 84, of: (r) => r.route.figures.success, write: percent, isBad: (r) => (r.route.figures.success ?? 1) < least }),
  figure("p95", { name: "p95", width: 80, of: (r) => r.route.figures.p95MS || null, write: millis }),
  { field: "at", headerName: "Where", width: 130, valueGetter: (_, r) => `${r.route.at.file ?? ""}:${r.route.at.line ?? ""}`, renderCell: ({ row }) => <Place at={row.route.at} /> },
];
