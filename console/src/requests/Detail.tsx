import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { Link } from "react-router";
import type { Request } from "../api/client";
import { Axis, type Stretch } from "../parts/Axis";
import { amount, millis } from "../parts/format";

/** One request with all its tries on a time axis. */
export function Detail({ request: r, onClose }: { request: Request; onClose: () => void }) {
  const rows: Stretch[] = [
    { id: "whole", label: `${r.caller} → ${r.service ?? "nobody"}`, depth: 0, fromMS: 0, ms: r.ms, looks: "solid", bad: r.outcome !== "ok", got: r.status ? String(r.status) : r.outcome, title: r.detail ?? "" },
    ...(r.tries ?? []).map((t, i): Stretch => ({
      id: String(i), label: t.kind === "try" ? `try ${t.instance ?? ""}` : t.kind, depth: 1, fromMS: t.fromMS, ms: t.ms, looks: t.kind === "try" ? "striped" : "dotted",
      bad: t.kind === "try" && (Boolean(t.reason) || !t.status || t.status >= 500), got: t.kind === "try" ? (t.reason ?? (t.status ? String(t.status) : "no answer")) : "", title: `${millis(t.ms)} from ${millis(t.fromMS)}`,
    })),
  ];
  const facts: [string, string][] = [
    ["outcome", [r.outcome, r.reason].filter(Boolean).join(": ")],
    ["route", [r.gate && `${r.gate} of the gateway`, r.route].filter(Boolean).join(", then ") || "none: plain balancing"],
    ["written", r.written ?? ""],
    ["revision", String(r.revision)],
    ["host", r.host ?? ""],
    ["sent", amount(r.sent)],
    ["received", amount(r.received)],
    ["hop", r.secured ? "encrypted" : "not encrypted"],
    ["proxy", r.proxy],
  ];
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 1.25 }} data-test="detail">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
        <Box component="strong">{r.method} {r.path}</Box>
        <Box component="time" dateTime={r.at} title={r.at} sx={{ color: "text.secondary" }}>{new Date(r.at).toLocaleTimeString([], { hourCycle: "h23" })}</Box>
        {r.service && <Link to={`/services/${r.service}`} style={{ color: "inherit" }}>{r.service}</Link>}
        {r.trace && (r.traced ? <Link to={`/traces/${r.trace}`} style={{ color: "inherit" }} data-test="to-trace">Its trace</Link> : <Box component="span" sx={{ color: "text.secondary" }}>not traced</Box>)}
        <Button size="small" sx={{ ml: "auto" }} onClick={onClose}>Close</Button>
      </Box>
      {r.detail && <Box sx={{ color: "error.main", fontWeight: 600, my: 0.5 }}>▼ {r.detail}</Box>}
      <Axis rows={rows} ms={r.ms} />
      <Box component="dl" sx={{ display: "flex", flexWrap: "wrap", columnGap: 3, rowGap: 0.25, m: 0, mt: 1 }}>
        {facts.filter(([, v]) => v).map(([name, value]) => (
          <Box key={name} sx={{ display: "flex", gap: 0.75 }}>
            <Box component="dt" sx={{ color: "text.secondary" }}>{name}</Box>
            <Box component="dd" sx={{ m: 0, fontWeight: 600 }}>{value}</Box>
          </Box>
        ))}
      </Box>
    </Paper>
  );
}
