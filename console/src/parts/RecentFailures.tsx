import Box from "@mui/material/Box";
import { Link } from "react-router";
import { readFailures, type Query, type RequestRecord } from "../api/client";
import { millis } from "./format";
import { usePolled } from "./usePolled";

const pace = 2000;

/** Recent requests of a group that failed or were refused, with links to their traces. */
export function RecentFailures({ query, limit = 8 }: { query: Query; limit?: number }) {
  const { value: list } = usePolled(`failures ${JSON.stringify(query)}`, pace, (signal) => readFailures({ ...query, limit }, signal));
  if (!list) return <Box sx={{ color: "text.secondary" }}>Loading recent failures</Box>;
  if (list.length === 0) return <Box sx={{ color: "text.secondary" }}>No recent failures.</Box>;
  return (
    <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, fontSize: 12.5 }} data-test="failures">
      {list.map((r) => (
        <Box component="li" key={`${r.at}${r.proxy}`} sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.25, py: 0.3, borderBottom: 1, borderColor: "divider" }}>
          <Box component="time" dateTime={r.at} title={r.at} sx={{ color: "text.secondary" }}>{new Date(r.at).toLocaleTimeString([], { hourCycle: "h23" })}</Box>
          <Box sx={{ color: "error.main", fontWeight: 650 }}>▼ {outcomeText(r)}</Box>
          <span>{r.method} {r.path}</span>
          <Box component="span" sx={{ color: "text.secondary" }}>{r.caller} → {r.instance ?? r.service}, {millis(r.durationMS)}</Box>
          {r.isTraced && r.trace && <Link to={`/traces/${r.trace}`} style={{ color: "inherit" }}>trace</Link>}
          {r.detail && <Box sx={{ flexBasis: "100%", color: "text.secondary" }}>{r.detail}</Box>}
        </Box>
      ))}
    </Box>
  );
}

/** Status and reason of a request. */
export const outcomeText = (r: RequestRecord): string => [r.status ?? "", r.reason ?? (r.outcome === "ok" ? "" : r.outcome)].filter(Boolean).join(" ") || r.outcome;
