import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableContainer from "@mui/material/TableContainer";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import type { ReactNode } from "react";
import type { GuardState, VersionGuards } from "../api/client";
import { percent, seconds } from "../parts/format";

/** State of the guards of a service in each calling proxy. */
export function Guards({ guards }: { guards: GuardState[] }) {
  const rows = guards.flatMap((c) => {
    const versions: (VersionGuards | null)[] = c.versions?.length ? c.versions : [null];
    return versions.map((v, i) => ({ c, v, first: i === 0, span: versions.length }));
  });
  if (rows.length === 0) {
    return (
      <Typography sx={{ color: "text.secondary" }} data-test="no-guards">
        No guard, retry or limit was used in the last minute.
      </Typography>
    );
  }
  return (
    <TableContainer component={Paper} variant="outlined" data-test="guards">
      <Table size="small" sx={{ "& td": { verticalAlign: "top" } }}>
        <TableHead>
          <TableRow>
            {["Calling proxy", "Version", "Breaker", "In flight", "Instances without requests", "Retries left", "Limit keys"].map((h) => <TableCell key={h}>{h}</TableCell>)}
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map(({ c, v, first, span }) => (
            <TableRow key={`${c.proxy} ${v?.version ?? ""}`}>
              {first && <TableCell rowSpan={span} title={`as of ${c.at}`} sx={{ fontWeight: 650 }}>{c.proxy}</TableCell>}
              <TableCell>{v?.version}</TableCell>
              <TableCell>{v && <BreakerCell v={v} />}</TableCell>
              <TableCell sx={{ minWidth: 130 }}>{v && <QueueCell v={v} />}</TableCell>
              <TableCell>{v && <InstancesCell v={v} />}</TableCell>
              {first && (
                <TableCell rowSpan={span}>
                  {c.retries && (
                    <>
                      <strong>{c.retries.left}</strong>
                      <Small>{c.retries.retries} sent for {c.retries.requests} requests in 10 s</Small>
                    </>
                  )}
                </TableCell>
              )}
              {first && (
                <TableCell rowSpan={span}>
                  {(c.limits ?? []).map((l) => (
                    <div key={l.route}>{l.route}: <strong>{l.keys}</strong> of {l.maxKeys}</div>
                  ))}
                </TableCell>
              )}
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

const Small = ({ children }: { children: ReactNode }) => (
  <Box component="span" sx={{ display: "block", color: "text.secondary", fontSize: 12 }}>{children}</Box>
);

/** A switch drawn closed, ajar or open, with the state beside it: an open breaker lets no request through. */
function BreakerCell({ v }: { v: VersionGuards }) {
  const b = v.breaker;
  if (!b) return null;
  const colour = b.state === "open" ? "error.main" : b.state === "probing" ? "warning.main" : "success.main";
  const angle = b.state === "open" ? -42 : b.state === "probing" ? -18 : 0;
  return (
    <Box data-test={`breaker-${b.state}`}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 0.75, color: colour, fontWeight: 650 }}>
        <Box component="svg" viewBox="0 0 26 16" aria-hidden sx={{ width: 26, height: 16, overflow: "visible" }}>
          <path d="M0 12h7M19 12h7" stroke="currentColor" strokeWidth="2.4" strokeLinecap="round" />
          <path d="M7 12h12" stroke="currentColor" strokeWidth="2.4" strokeLinecap="round" transform={`rotate(${angle} 7 12)`} />
          <circle cx="7" cy="12" r="2.2" fill="currentColor" />
        </Box>
        {b.state}
      </Box>
      <Small>
        since {seconds(b.sinceMS)}{b.probeInMS ? `, probes in ${seconds(b.probeInMS)}` : ""}
        {b.requests > 0 && `; ${b.failed} of ${b.requests} failed${b.slow ? `, ${b.slow} slow` : ""}`}
      </Small>
    </Box>
  );
}

/** Requests in flight against their limit, as a bar with the numbers beside it. */
function QueueCell({ v }: { v: VersionGuards }) {
  const q = v.queue;
  if (!q) return null;
  const full = q.inFlight >= q.inFlightLimit;
  return (
    <Box data-test="in-flight">
      <strong>{q.inFlight}</strong> of {q.inFlightLimit}{full && <Box component="strong" sx={{ color: "error.main" }}> full</Box>}
      <Box sx={{ height: 6, borderRadius: 3, bgcolor: "divider", overflow: "hidden", my: 0.25 }} aria-hidden>
        <Box sx={{ height: 1, width: `${Math.min(100, (100 * q.inFlight) / q.inFlightLimit)}%`, bgcolor: full ? "error.main" : "primary.main" }} />
      </Box>
      <Small>{q.waiting} of {q.waitingLimit} waiting</Small>
    </Box>
  );
}

function InstancesCell({ v }: { v: VersionGuards }) {
  const spills = (v.sites ?? []).some((s, i) => i > 0 && s.share > 0);
  return (
    <>
      {(v.sidelined ?? []).map((o) => (
        <Box key={o.instance} data-test={`out-${o.instance}`}>
          <Box component="strong" sx={{ color: "warning.main" }}>⊘ {o.instance}</Box>
          <Small>
            sidelined for {seconds(o.durationMS)}{o.inARow > 1 && `, ${o.inARow} times in a row`}, last failure {o.cause};{" "}
            {o.isProbed ? "a request probes it" : o.leftMS ? `${seconds(o.leftMS)} left` : "the next request probes it"}
          </Small>
        </Box>
      ))}
      {(v.unreachable ?? []).map((u) => (
        <Box key={u.instance} data-test={`unreachable-${u.instance}`}>
          <Box component="strong" sx={{ color: "error.main" }}>▼ {u.instance}</Box>
          <Small>unreachable for {seconds(u.sinceMS)}: {u.cause}; next attempt to connect in {seconds(u.retryInMS)}</Small>
        </Box>
      ))}
      {(v.unhealthy ?? []).map((id) => (
        <Box key={id}>
          <Box component="strong" sx={{ color: "error.main" }}>▼ {id}</Box>
          <Small>{v.ignoresHealth ? "unhealthy, but gets requests: most instances are unhealthy at once" : "unhealthy: its health checks fail"}</Small>
        </Box>
      ))}
      {(v.drilledDown ?? []).map((id) => (
        <Box key={id}>
          <Box component="strong" sx={{ color: "warning.main" }}>▼ {id}</Box>
          <Small>taken down by a drill</Small>
        </Box>
      ))}
      {spills && <Small>by site: {(v.sites ?? []).map((s) => `${s.site || "none"} ${percent(s.share)}`).join(", ")}</Small>}
    </>
  );
}
