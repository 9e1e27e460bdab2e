import Box from "@mui/material/Box";
import type { ReactNode } from "react";
import { Link } from "wouter";
import type { RequestRecord } from "../api/client";
import { Drawer } from "../kit/Drawer";
import { amount, millis, moment, transports } from "../kit/format";
import { placeOf, Place } from "../kit/Place";
import { TimeAxis, type AxisRow } from "../kit/TimeAxis";

/** One request with its attempts and waits on a time axis. */
export function Detail({ request: r, onClose }: { request: RequestRecord; onClose: () => void }) {
  const rows: AxisRow[] = [
    { id: "whole", label: `${r.caller} → ${r.service ?? "nobody"}`, depth: 0, startMS: 0, durationMS: r.durationMS, looks: "solid", bad: r.outcome !== "ok", result: r.status ? String(r.status) : r.outcome, title: r.detail ?? "" },
    ...(r.segments ?? []).map((t, i): AxisRow => ({
      id: String(i), label: t.kind === "attempt" ? `attempt ${t.instance ?? ""}` : t.kind, depth: 1, startMS: t.startMS, durationMS: t.durationMS, looks: t.kind === "attempt" ? "striped" : "dotted",
      bad: t.kind === "attempt" && (Boolean(t.reason) || !t.status || t.status >= 500), result: t.kind === "attempt" ? (t.reason ?? (t.status ? String(t.status) : "no response")) : "", title: `${millis(t.durationMS)} from ${millis(t.startMS)}`,
    })),
  ];
  const facts: [string, ReactNode][] = [
    ["outcome", [r.outcome, r.reason].filter(Boolean).join(": ")],
    ["route", [r.gatewayRoute && `${r.gatewayRoute} of the gateway`, r.route].filter(Boolean).join(", then ") || "none: balanced over all instances"],
    ["route at", r.routeAt && <Place key="at" at={placeOf(r.routeAt)} />],
    ["revision", <Link key="revision" to={`/effects?revision=${r.revision}`} style={{ color: "inherit" }}>{r.revision}</Link>],
    ["host", r.host ?? ""],
    ["request size", amount(r.requestBytes)],
    ["response size", amount(r.responseBytes)],
    ["transport", transports[r.transport] ?? r.transport],
    ["identity of the caller", r.identities?.from ?? ""],
    ["identity of the service", r.identities?.to ?? ""],
    ["proxy", r.proxy],
  ];
  return (
    <Drawer title={`${r.method ?? ""} ${r.path ?? ""}`} onClose={onClose} test="detail" width={560}>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
        <Box component="time" dateTime={r.at} title={r.at} sx={{ color: "text.secondary" }}>{moment(r.at)}</Box>
        {r.service && <Link to={`/services/${r.service}`} style={{ color: "inherit" }}>{r.service}</Link>}
        {r.trace && (r.isTraced ? <Link to={`/traces/${r.trace}`} style={{ color: "inherit" }} data-test="to-trace">Trace</Link> : <Box component="span" sx={{ color: "text.secondary" }}>not traced</Box>)}
      </Box>
      {r.detail && <Box sx={{ color: "error.main", fontWeight: 600, my: 0.5 }}>▼ {r.detail}</Box>}
      <TimeAxis rows={rows} ms={r.durationMS} />
      <Box component="dl" sx={{ display: "flex", flexWrap: "wrap", columnGap: 3, rowGap: 0.25, m: 0, mt: 1 }}>
        {facts.filter(([, v]) => v).map(([name, value]) => (
          <Box key={name} sx={{ display: "flex", gap: 0.75 }}>
            <Box component="dt" sx={{ color: "text.secondary" }}>{name}</Box>
            <Box component="dd" sx={{ m: 0, fontWeight: 600 }}>{value}</Box>
          </Box>
        ))}
      </Box>
    </Drawer>
  );
}
