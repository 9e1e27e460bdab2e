import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import FormControlLabel from "@mui/material/FormControlLabel";
import Switch from "@mui/material/Switch";
import TextField from "@mui/material/TextField";
import { Link } from "wouter";
import type { Proxy } from "../api/client";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { DataTable, figure, type Column } from "../kit/DataTable";
import { ago, bytes, millis } from "../kit/format";
import { useIsOfTeam } from "../kit/For";
import { NoProxies } from "../kit/NoProxies";
import { PageHeader } from "../kit/PageHeader";
import { type } from "../kit/theme";
import { Examination } from "./Examination";
import { UpgradeState } from "./UpgradeState";
import { needsAttention, urgency, useFleet } from "./useFleet";

const states: Record<string, string> = {
  rejecting: "it cannot apply the newest revision",
  behind: "connected, and the newest revision is not in force yet",
  unconfirmed: "the service lost contact to it and to most of its version at once; it still gets requests",
  disconnected: "it lost its connection a moment ago",
  current: "connected, and the newest revision is in force",
};

const describe = (p: Proxy): string => [p.id, workload(p), p.site, p.state].join(" ");

const workload = (p: Proxy): string => (p.gateway ? `gateway ${p.gateway}` : p.crossing ? "crossing" : p.service ? `${p.service}/${p.version}` : "none");

/** All proxies; those that need attention come first. */
export function FleetPage() {
  const { fleet, at, error } = useFleet();
  const ofTeam = useIsOfTeam();
  const [params, change] = useAddress();
  const words = params.get("find") ?? "";
  const onlyAttention = params.get("show") === "attention";
  const site = params.get("site") ?? "";
  const all = (fleet?.proxies ?? []).filter((p) => !site || p.site === site);
  const needing = all.filter(needsAttention).length;
  const shown = all
    .filter((p) => (!onlyAttention || needsAttention(p)) && describe(p).toLowerCase().includes(words.toLowerCase()))
    .sort((a, b) => urgency(a) - urgency(b) || a.id.localeCompare(b.id));
  const state = fleet && all.length > 0 && (
    <Box data-test="summary" sx={{ color: needing ? "warning.main" : "text.secondary", fontWeight: needing ? 650 : 400 }}>
      {needing === 0
        ? `Revision ${fleet.revision} is in force in ${all.length === 1 ? "the only proxy" : `all ${all.length} proxies`}.`
        : `Revision ${fleet.revision} is in force in ${all.filter((p) => p.state === "current").length} of ${all.length} proxies; ${needing} ${needing === 1 ? "needs" : "need"} attention.`}
    </Box>
  );
  return (
    <>
      <PageHeader
        title="Fleet" state={state}
        actions={
          <>
            {!ofTeam && <Button variant="outlined" onClick={() => change({ examine: "yes" })} data-test="examine">Examine</Button>}
            <CopyAsCommand line={`nightjar fleet${site && ` --site ${shellWord(site)}`}`} />
            <FormControlLabel control={<Switch size="small" checked={onlyAttention} onChange={(e) => change({ show: e.target.checked ? "attention" : null })} />} label="Need attention" />
            <TextField label="Find" placeholder="name, service, site" value={words} onChange={(e) => change({ find: e.target.value })} sx={{ width: 170 }} />
          </>
        }
      />
      {!ofTeam && params.has("examine") && <Examination onClose={() => change({ examine: null })} />}
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{error} The list shows the last known state.</Alert>}
      {fleet?.upgrade && !ofTeam && <UpgradeState upgrade={fleet.upgrade} outOfStep={fleet.outOfStep ?? []} />}
      {!fleet && !error && <Box sx={{ color: "text.secondary", py: 3 }}>Waiting for the service</Box>}
      {fleet && all.length === 0 && <NoProxies />}
      {all.length > 0 && (
        <DataTable name="proxies" columns={columns(fleet?.revision ?? 0, at)} rows={shown} idOf={(p) => p.id} isTall empty="No proxy matches" rowClass={(p) => (needsAttention(p) ? "attention" : "")} />
      )}
      <Box sx={{ color: "text.secondary", mt: 1, maxWidth: 900, fontSize: type.small }}>
        Lag is the time from the commit of the newest revision until it was in force in the proxy; for a proxy that is behind, until now. Memory is that of the process, which can
        hold several proxies. Certificate is for how long it is good: it is renewed at half of its life.
      </Box>
    </>
  );
}

/** For how long the certificate of a proxy is good. */
function certificateLeft(p: Proxy, now: number): string {
  if (!p.certificate) return "none";
  const hours = (Date.parse(p.certificate.expires) - now) / 3_600_000;
  return hours < 0 ? "ran out" : `${hours.toFixed(1)} h`;
}

const late = ({ row }: { row: Proxy }) => (needsAttention(row) ? "warn" : "");

const columns = (newest: number, now: number): Column<Proxy>[] => [
  { field: "id", headerName: "Proxy", width: 136, cellClassName: (c) => `strong ${late(c)}`, renderCell: ({ row }) => <span data-test="proxy" data-state={row.state} title={`process ${row.pid}, running since ${row.started}`}>{row.id}</span> },
  {
    field: "workload", headerName: "Workload", flex: 1, minWidth: 128, valueGetter: (_, p) => workload(p),
    renderCell: ({ row: p }) => (p.gateway ? <Link to={`/gateways/${p.gateway}`} style={{ color: "inherit" }}>gateway {p.gateway}</Link> : p.service ? <span><Link to={`/services/${p.service}`} style={{ color: "inherit" }}>{p.service}</Link>/{p.version}</span> : workload(p)),
  },
  { field: "site", headerName: "Site", width: 96 },
  { field: "state", headerName: "State", flex: 1.4, minWidth: 100, cellClassName: late, renderCell: ({ row }) => <StateCell of={row} /> },
  { field: "revision", headerName: "Revision", width: 74, align: "right", headerAlign: "right", renderCell: ({ row }) => `${row.revision}${row.revision !== newest ? ` of ${newest}` : ""}` },
  figure("lag", { name: "Lag", width: 74, of: (p) => p.lagMS || null, write: millis }),
  { field: "lastSeen", headerName: "Last seen", width: 80, align: "right", headerAlign: "right", valueFormatter: (v: string) => ago(now - Date.parse(v)) },
  figure("connections", { name: "Connections", width: 94, of: (p) => p.connections, write: String }),
  figure("memory", { name: "Memory (MiB)", width: 108, of: (p) => p.memoryBytes || null, write: bytes }),
  { field: "certificate", headerName: "Certificate", width: 84, align: "right", headerAlign: "right", valueGetter: (_, p) => certificateLeft(p, now) },
  { field: "programVersion", headerName: "Program version", width: 122, valueGetter: (_, p) => [p.programVersion, p.build?.slice(0, 8)].filter(Boolean).join(" ") },
];

function StateCell({ of: p }: { of: Proxy }) {
  const lines = [p.rejection, ...(p.problems ?? []).map((one) => `${one.kind}: ${one.detail}`)].filter(Boolean);
  return (
    <Box title={states[p.state]} sx={{ whiteSpace: "normal" }}>
      {needsAttention(p) ? `▲ ${p.state}` : p.state}
      {lines.map((line) => <Box key={line} sx={{ fontWeight: 400, color: "text.primary", lineHeight: 1.35 }}>{line}</Box>)}
    </Box>
  );
}
