import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import FormControlLabel from "@mui/material/FormControlLabel";
import Paper from "@mui/material/Paper";
import Switch from "@mui/material/Switch";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableContainer from "@mui/material/TableContainer";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Proxy } from "../api/client";
import { ago, bytes, millis } from "../parts/format";
import { needsAttention, urgency, useFleet } from "./useFleet";

const most = 100; // rows at first; a browser has trouble with thousands

const states: Record<string, string> = {
  rejecting: "it cannot apply the newest revision",
  behind: "connected, and the newest revision is not in force yet",
  unconfirmed: "the service lost contact to it and to most of its version at once; it still gets requests",
  disconnected: "it lost its connection a moment ago",
  current: "connected, and the newest revision is in force",
};

/** All proxies; those that need attention come first. */
export function FleetPage() {
  const { fleet, at, error } = useFleet();
  const [params, setParams] = useSearchParams();
  const [rows, setRows] = useState(most);
  const words = params.get("find") ?? "";
  const onlyAttention = params.get("show") === "attention";
  const change = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  const all = fleet?.proxies ?? [];
  const needing = all.filter(needsAttention).length;
  const shown = all
    .filter((p) => (!onlyAttention || needsAttention(p)) && describe(p).toLowerCase().includes(words.toLowerCase()))
    .sort((a, b) => urgency(a) - urgency(b) || a.id.localeCompare(b.id));
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">Fleet</Typography>
        {fleet && all.length > 0 && (
          <Box data-test="summary" sx={{ color: needing ? "warning.main" : "text.secondary", fontWeight: needing ? 650 : 400 }}>
            {needing === 0
              ? `Revision ${fleet.revision} is in force in ${all.length === 1 ? "the only proxy" : `all ${all.length} proxies`}.`
              : `Revision ${fleet.revision} is in force in ${all.filter((p) => p.state === "current").length} of ${all.length} proxies; ${needing} ${needing === 1 ? "needs" : "need"} attention.`}
          </Box>
        )}
        <Box sx={{ ml: "auto", display: "flex", gap: 2, alignItems: "center", flexWrap: "wrap" }}>
          <FormControlLabel
            control={<Switch size="small" checked={onlyAttention} onChange={(e) => change("show", e.target.checked ? "attention" : "")} />}
            label="Need attention"
          />
          <TextField size="small" label="Find" placeholder="name, service, site" value={words} onChange={(e) => change("find", e.target.value)} />
        </Box>
      </Box>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{error} The list shows the last known state.</Alert>}
      {!fleet && !error && <Box sx={{ color: "text.secondary", py: 4 }}>Waiting for the service</Box>}
      {fleet && all.length === 0 && (
        <Typography sx={{ color: "text.secondary" }}>
          No proxy has registered. Start one beside a workload: <code>nightjar proxy --service NAME --version v1 --app HOST:PORT</code>
        </Typography>
      )}
      {fleet && all.length > 0 && shown.length === 0 && <Typography sx={{ color: "text.secondary" }}>No proxy matches.</Typography>}
      {shown.length > 0 && (
        <TableContainer component={Paper} variant="outlined">
          <Table size="small" aria-label="Proxies">
            <TableHead>
              <TableRow>
                {["Proxy", "Workload", "Site", "State", "Revision", "Lag", "Last seen", "Connections", "Memory (MiB)", "Certificate", "Program version"].map((h) => (
                  <TableCell key={h} align={right.has(h) ? "right" : "left"}>{h}</TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>{shown.slice(0, rows).map((p) => <Row key={p.id} proxy={p} newest={fleet?.revision ?? 0} now={at} />)}</TableBody>
          </Table>
        </TableContainer>
      )}
      {shown.length > rows && <Button size="small" sx={{ mt: 1 }} onClick={() => setRows(rows + 500)}>{shown.length - rows} more</Button>}
      <Typography sx={{ color: "text.secondary", mt: 1.5, maxWidth: 900 }}>
        Lag is the time from the commit of the newest revision until it was in force in the proxy; for a proxy that is behind, until now. Memory is that of the process, which can
        hold several proxies. Certificate is for how long it is good: it is renewed at half of its life.
      </Typography>
    </>
  );
}

const right = new Set(["Revision", "Lag", "Last seen", "Connections", "Memory (MiB)", "Certificate"]);

/** For how long the certificate of a proxy is good. */
function certificateLeft(p: Proxy, now: number): string {
  if (!p.certificate) return "none";
  const hours = (Date.parse(p.certificate.expires) - now) / 3_600_000;
  return hours < 0 ? "ran out" : `${hours.toFixed(1)} h`;
}

const describe = (p: Proxy): string => [p.id, p.service, p.version, p.gateway, p.site, p.state].join(" ");

function Row({ proxy: p, newest, now }: { proxy: Proxy; newest: number; now: number }) {
  const isLate = needsAttention(p);
  return (
    <TableRow data-test="proxy" data-state={p.state} sx={{ "& td": { whiteSpace: "nowrap" }, ...(isLate ? { "& td:first-of-type": { boxShadow: "inset 4px 0 0 currentColor" }, bgcolor: "action.hover" } : {}) }}>
      <TableCell sx={{ fontWeight: 650, color: isLate ? "warning.main" : "text.primary" }} title={`process ${p.pid}, running since ${p.started}`}>{p.id}</TableCell>
      <TableCell>
        {p.gateway ? <Link to={`/gateways/${p.gateway}`} style={{ color: "inherit" }}>gateway {p.gateway}</Link>
          : p.service ? <><Link to={`/services/${p.service}`} style={{ color: "inherit" }}>{p.service}</Link>/{p.version}</> : "none"}
      </TableCell>
      <TableCell>{p.site}</TableCell>
      <TableCell title={states[p.state]} sx={{ color: isLate ? "warning.main" : "text.primary", fontWeight: isLate ? 650 : 400 }}>
        {isLate ? `▲ ${p.state}` : p.state}
        {[p.rejection, ...(p.problems ?? []).map((one) => `${one.kind}: ${one.detail}`)].filter(Boolean).map((line) => (
          <Box key={line} sx={{ fontWeight: 400, whiteSpace: "normal", color: "text.primary", maxWidth: 420 }}>{line}</Box>
        ))}
      </TableCell>
      <TableCell align="right">{p.revision}{p.revision !== newest && ` of ${newest}`}</TableCell>
      <TableCell align="right">{millis(p.lagMS)}</TableCell>
      <TableCell align="right" title={p.lastSeen}>{ago(now - Date.parse(p.lastSeen))}</TableCell>
      <TableCell align="right">{p.connections}</TableCell>
      <TableCell align="right">{bytes(p.memoryBytes)}</TableCell>
      <TableCell align="right" title={p.certificate ? `${p.certificate.identity}, good until ${p.certificate.expires}` : ""}>{certificateLeft(p, now)}</TableCell>
      <TableCell>{p.programVersion}</TableCell>
    </TableRow>
  );
}
