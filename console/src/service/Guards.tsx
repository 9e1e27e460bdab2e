import Box from "@mui/material/Box";
import type { ReactNode } from "react";
import type { GuardState, VersionGuards } from "../api/client";
import { DataTable, type Column } from "../kit/DataTable";
import { percent, seconds } from "../kit/format";
import { type } from "../kit/theme";

interface Row {
  caller: GuardState;
  version: VersionGuards | null;
}

const columns: Column<Row>[] = [
  { field: "proxy", headerName: "Calling proxy", width: 150, valueGetter: (_, r) => r.caller.proxy, cellClassName: "strong" },
  { field: "version", headerName: "Version", width: 80, valueGetter: (_, r) => r.version?.version ?? "" },
  { field: "breaker", headerName: "Breaker", width: 210, valueGetter: (_, r) => r.version?.breaker?.state ?? "", renderCell: ({ row }) => row.version && <BreakerCell v={row.version} /> },
  { field: "queue", headerName: "In flight", width: 140, valueGetter: (_, r) => r.version?.queue?.inFlight ?? null, renderCell: ({ row }) => row.version && <QueueCell v={row.version} /> },
  { field: "instances", headerName: "Instances without requests", flex: 1, minWidth: 220, sortable: false, renderCell: ({ row }) => row.version && <Box><InstancesCell v={row.version} /></Box> },
  { field: "retries", headerName: "Retries left", width: 190, valueGetter: (_, r) => r.caller.retries?.left ?? null, renderCell: ({ row }) => <RetriesCell caller={row.caller} /> },
  { field: "limits", headerName: "Limit keys", width: 260, sortable: false, renderCell: ({ row }) => <Box>{(row.caller.limits ?? []).map((l) => <div key={l.route}>{l.route}: <strong>{l.keys}</strong> of {l.maxKeys}{l.shared && `, ${l.shared.tokens} held, ${l.shared.perS.toFixed(2)}/s of the mesh${l.shared.isDealt ? "" : " without the service"}`}</div>)}</Box> },
];

/** State of the guards of a service in each calling proxy. */
export function Guards({ guards }: { guards: GuardState[] }) {
  const rows = guards.flatMap((caller): Row[] => (caller.versions?.length ? caller.versions.map((version) => ({ caller, version })) : [{ caller, version: null }]));
  if (rows.length === 0) {
    return <Box sx={{ color: "text.secondary" }} data-test="no-guards">No guard, retry or limit was used in the last minute.</Box>;
  }
  return <div data-test="guards"><DataTable name="guards" columns={columns} rows={rows} idOf={(r) => `${r.caller.proxy} ${r.version?.version ?? ""}`} isTall isPlain /></div>;
}

function RetriesCell({ caller }: { caller: GuardState }) {
  const r = caller.retries;
  return r && <Box><strong>{r.left}</strong><Small>{r.retries} sent for {r.requests} requests in 10 s</Small></Box>;
}

const Small = ({ children }: { children: ReactNode }) => (
  <Box component="span" sx={{ display: "block", color: "text.secondary", fontSize: type.small, lineHeight: 1.35, whiteSpace: "normal" }}>{children}</Box>
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
