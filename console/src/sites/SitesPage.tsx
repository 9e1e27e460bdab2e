import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { Link } from "wouter";
import { queries, words, type Schemas } from "../api/client";
import { CopyAsCommand } from "../kit/Command";
import { DataTable, figure, type Column } from "../kit/DataTable";
import { EmptyState } from "../kit/EmptyState";
import { amount, bytes, millis, percent, plural, rate } from "../kit/format";
import { Heading, PageHeader } from "../kit/PageHeader";
import { useRange } from "../kit/range";

type Site = Schemas["Site"];
type Traffic = Schemas["SiteTraffic"];
type Crossing = Schemas["SiteCrossing"] & { site: string };

const usual = 60; // seconds that the figures of the present cover

/** The sites: what runs there, how others reach it, and the requests between them. */
export function SitesPage() {
  const range = useRange();
  const window = range.at || range.span ? range.seconds : usual;
  const { data, error } = queries.useQuery("get", "/api/v1/sites", { params: { query: { window, ...(range.at ? { at: range.at } : {}) } } }, { refetchInterval: range.at ? false : 2000 });
  const crossings = (data?.sites ?? []).flatMap((s) => s.crossings.map((c): Crossing => ({ ...c, site: s.name })));
  return (
    <>
      <PageHeader title="Sites" about={data && `Figures of ${plural(data.window, "second")}.`} actions={<CopyAsCommand line={window === usual ? "nightjar sites" : `nightjar sites --window ${window}`} />} />
      {error && !data && <Alert severity="error">{words(error)}</Alert>}
      {data?.sites.length === 0 && <EmptyState title="There are no sites">Name them in the rules (sites: [north-quay, south-quay]), and start proxies with --site NAME.</EmptyState>}
      {data && data.sites.length > 0 && (
        <>
          <DataTable name="sites" columns={siteColumns} rows={data.sites} idOf={(s) => s.name} rowClass={(s) => (s.problem ? "attention" : "")} isTall />
          <Heading>Requests between sites</Heading>
          <DataTable name="traffic between sites" columns={trafficColumns(data.window)} rows={data.traffic} idOf={(t) => `${t.from}~${t.to}`} empty="No requests in this time" />
          {crossings.length > 0 && (
            <>
              <Heading>Crossings</Heading>
              <DataTable name="crossings" columns={crossingColumns} rows={crossings} idOf={(c) => c.proxy} />
              <Box sx={{ color: "text.secondary", mt: 1 }}>A crossing carries connections without decrypting them. What it carried is since it began.</Box>
            </>
          )}
        </>
      )}
    </>
  );
}

const figures = <R extends Site | Traffic>(latencies: readonly ("p50MS" | "p95MS" | "p99MS")[]): Column<R>[] => [
  figure("rps", { name: "Req/s", width: 84, of: (r) => r.figures.rps, write: rate }),
  figure("success", { name: "Success", width: 86, of: (r) => r.figures.success, write: percent, isBad: (r) => (r.figures.success ?? 1) < 0.99 }),
  ...latencies.map((f) => figure<R>(f, { name: f.slice(0, 3), width: 84, of: (r) => r.figures[f] || null, write: millis })),
];

const siteColumns: Column<Site>[] = [
  { field: "name", headerName: "Site", width: 110, cellClassName: "strong", renderCell: ({ row }) => <Link to={`/?site=${encodeURIComponent(row.name)}`} style={{ color: "inherit" }}>{row.name}</Link> },
  {
    field: "crossing", headerName: "Reached", flex: 1, minWidth: 168, valueGetter: (_, s) => (s.crossing ? `through ${s.crossing}` : "directly"),
    renderCell: ({ row: s }) => (
      <Box sx={{ whiteSpace: "normal" }}>
        {s.crossing ? `through ${s.crossing}` : "directly"}
        {s.drain && <Box sx={{ color: "warning.main", lineHeight: 1.35 }}>{s.drain.isReturning ? `takes its requests back, ${percent(s.drain.leaves)} away` : s.drain.leaves >= 1 ? "drained" : `drains, ${percent(s.drain.leaves)} given away`}</Box>}
        {s.problem && <Box sx={{ color: "warning.main", fontWeight: 650, lineHeight: 1.35 }}>▲ {s.problem}</Box>}
      </Box>
    ),
  },
  figure("proxies", { name: "Proxies", width: 84, of: (s) => s.proxies, write: String }),
  figure("away", { name: "Away", width: 70, of: (s) => s.away, write: String, isBad: (s) => s.away > 0, about: "Proxies that do not follow the service now" }),
  figure("instances", { name: "Instances", width: 90, of: (s) => s.instances, write: String }),
  { field: "services", headerName: "Services", flex: 1, minWidth: 120, valueGetter: (_, s) => s.services.join(", ") },
  ...figures<Site>(["p50MS", "p95MS"]),
];

const trafficColumns = (window: number): Column<Traffic>[] => [
  { field: "from", headerName: "From", flex: 1, minWidth: 130, valueGetter: (_, t) => t.from || "no site" },
  { field: "to", headerName: "To", flex: 1, minWidth: 130, valueGetter: (_, t) => t.to || "no site" },
  ...figures<Traffic>(["p50MS", "p95MS", "p99MS"]),
  figure("bytes", { name: "Bytes/s", width: 100, of: (t) => Math.round(((t.figures.requestBytes ?? 0) + (t.figures.responseBytes ?? 0)) / Math.max(1, window)), write: amount, about: "Of bodies, in both directions" }),
];

const crossingColumns: Column<Crossing>[] = [
  { field: "site", headerName: "Site", width: 130 },
  { field: "proxy", headerName: "Proxy", flex: 1, minWidth: 140, valueFormatter: (v: string, c) => (c.isConnected ? v : `${v} (away)`) },
  { field: "listens", headerName: "Listens at", width: 160 },
  figure("connections", { name: "Connections", width: 104, of: (c) => c.connections, write: String }),
  figure("carried", { name: "Carried", width: 90, of: (c) => c.carried.connections, write: String, about: "Connections that reached their instance" }),
  figure("unknown", { name: "Unknown", width: 90, of: (c) => c.carried.unknown, write: String, about: "Connections that named no instance of the site, or spoke no TLS" }),
  figure("unreachable", { name: "Unreachable", width: 104, of: (c) => c.carried.unreachable, write: String, about: "Connections whose instance took none" }),
  figure("in", { name: "In (MiB)", width: 90, of: (c) => c.carried.bytesIn, write: bytes }),
  figure("out", { name: "Out (MiB)", width: 90, of: (c) => c.carried.bytesOut, write: bytes }),
];
