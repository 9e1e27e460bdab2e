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
import type { Member } from "../api/client";
import { ago, bytes, millis, plural } from "../parts/format";
import { needsLook, urgency, useFleet } from "./useFleet";

const most = 100; // rows at first; a browser has trouble with thousands

const states: Record<string, string> = {
  refuses: "it cannot put the newest revision in force",
  behind: "connected, and not at the newest revision yet",
  doubted: "the service lost sight of it and of most of its version at once; it is called on",
  away: "it lost its connection a moment ago",
  follows: "connected, and at the newest revision",
};

/** Every proxy, those first that need a look. */
export function FleetPage() {
  const { fleet, at, trouble } = useFleet();
  const [params, setParams] = useSearchParams();
  const [rows, setRows] = useState(most);
  const words = params.get("find") ?? "";
  const late = params.get("show") === "late";
  const change = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  const all = fleet?.proxies ?? [];
  const notThere = all.filter(needsLook).length;
  const shown = all
    .filter((p) => (!late || needsLook(p)) && describe(p).toLowerCase().includes(words.toLowerCase()))
    .sort((a, b) => urgency(a) - urgency(b) || a.id.localeCompare(b.id));
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">Fleet</Typography>
        {fleet && all.length > 0 && (
          <Box data-test="summary" sx={{ color: notThere ? "warning.main" : "text.secondary", fontWeight: notThere ? 650 : 400 }}>
            {notThere === 0
              ? `${plural(all.length, "proxy").replace("proxys", "proxies")}, all follow revision ${fleet.revision}.`
              : `${all.filter((p) => p.state === "follows").length} of ${all.length} proxies follow revision ${fleet.revision}; ${notThere} ${notThere === 1 ? "needs" : "need"} a look.`}
          </Box>
        )}
        <Box sx={{ ml: "auto", display: "flex", gap: 2, alignItems: "center", flexWrap: "wrap" }}>
          <FormControlLabel
            control={<Switch size="small" checked={late} onChange={(e) => change("show", e.target.checked ? "late" : "")} />}
            label="only those that need a look"
          />
          <TextField size="small" label="Find" placeholder="name, service, site" value={words} onChange={(e) => change("find", e.target.value)} />
        </Box>
      </Box>
      {trouble && <Alert severity="warning" sx={{ mb: 1 }}>{trouble} The list is as it was before.</Alert>}
      {!fleet && !trouble && <Box sx={{ color: "text.secondary", py: 4 }}>Waiting for the service</Box>}
      {fleet && all.length === 0 && (
        <Typography sx={{ color: "text.secondary" }}>
          No proxy has registered. Start one beside a workload: <code>nightjar proxy --service NAME --version v1 --app HOST:PORT</code>
        </Typography>
      )}
      {fleet && all.length > 0 && shown.length === 0 && <Typography sx={{ color: "text.secondary" }}>No proxy is like that now.</Typography>}
      {shown.length > 0 && (
        <TableContainer component={Paper} variant="outlined">
          <Table size="small" aria-label="Proxies">
            <TableHead>
              <TableRow>
                {["Proxy", "Beside", "Site", "State", "Revision", "Lag", "Seen", "Connections", "Memory", "Program"].map((h) => (
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
        Lag is how long after its commit the newest revision was in force in a proxy; for one that is behind, how late it is by now. Memory is that of the process, which
        may hold several proxies.
      </Typography>
    </>
  );
}

const right = new Set(["Revision", "Lag", "Seen", "Connections", "Memory"]);

const describe = (p: Member): string => [p.id, p.service, p.version, p.gateway, p.site, p.state].join(" ");

function Row({ proxy: p, newest, now }: { proxy: Member; newest: number; now: number }) {
  const late = needsLook(p);
  return (
    <TableRow data-test="proxy" data-state={p.state} sx={{ "& td": { whiteSpace: "nowrap" }, ...(late ? { "& td:first-of-type": { boxShadow: "inset 4px 0 0 currentColor" }, bgcolor: "action.hover" } : {}) }}>
      <TableCell sx={{ fontWeight: 650, color: late ? "warning.main" : "text.primary" }} title={`process ${p.pid}, running since ${p.started}`}>{p.id}</TableCell>
      <TableCell>
        {p.gateway ? <Link to={`/gateways/${p.gateway}`} style={{ color: "inherit" }}>gateway {p.gateway}</Link>
          : p.service ? <><Link to={`/services/${p.service}`} style={{ color: "inherit" }}>{p.service}</Link>/{p.version}</> : "calls only"}
      </TableCell>
      <TableCell>{p.site}</TableCell>
      <TableCell title={states[p.state]} sx={{ color: late ? "warning.main" : "text.primary", fontWeight: late ? 650 : 400 }}>
        {late ? `▲ ${p.state}` : p.state}
        {[p.error, ...(p.problems ?? []).map((one) => `${one.kind}: ${one.detail}`)].filter(Boolean).map((line) => (
          <Box key={line} sx={{ fontWeight: 400, whiteSpace: "normal", color: "text.primary", maxWidth: 420 }}>{line}</Box>
        ))}
      </TableCell>
      <TableCell align="right">{p.revision}{p.revision !== newest && ` of ${newest}`}</TableCell>
      <TableCell align="right">{millis(p.lagMS)}</TableCell>
      <TableCell align="right" title={p.seen}>{ago(now - Date.parse(p.seen))}</TableCell>
      <TableCell align="right">{p.connections}</TableCell>
      <TableCell align="right">{bytes(p.memory)}</TableCell>
      <TableCell>{p.program}</TableCell>
    </TableRow>
  );
}
