import Box from "@mui/material/Box";
import { Link } from "react-router";
import { readTrouble, type Query, type Request } from "../api/client";
import { millis } from "./format";
import { usePolled } from "./usePolled";

const pace = 2000;

/** The latest requests of a group that did not succeed, each one click from all that is known of it. */
export function Trouble({ query, limit = 8 }: { query: Query; limit?: number }) {
  const { value: list } = usePolled(`trouble ${JSON.stringify(query)}`, pace, (signal) => readTrouble({ ...query, limit }, signal));
  if (!list) return <Box sx={{ color: "text.secondary" }}>Reading the latest failures</Box>;
  if (list.length === 0) return <Box sx={{ color: "text.secondary" }}>None is remembered.</Box>;
  return (
    <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, fontSize: 12.5 }} data-test="trouble">
      {list.map((r) => (
        <Box component="li" key={`${r.at}${r.proxy}`} sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.25, py: 0.3, borderBottom: 1, borderColor: "divider" }}>
          <Box component="time" dateTime={r.at} title={r.at} sx={{ color: "text.secondary" }}>{new Date(r.at).toLocaleTimeString([], { hourCycle: "h23" })}</Box>
          <Box sx={{ color: "error.main", fontWeight: 650 }}>▼ {verdict(r)}</Box>
          <span>{r.method} {r.path}</span>
          <Box component="span" sx={{ color: "text.secondary" }}>{r.caller} → {r.instance ?? r.service}, {millis(r.ms)}</Box>
          {r.traced && r.trace && <Link to={`/traces/${r.trace}`} style={{ color: "inherit" }}>trace</Link>}
          {r.detail && <Box sx={{ flexBasis: "100%", color: "text.secondary" }}>{r.detail}</Box>}
        </Box>
      ))}
    </Box>
  );
}

/** What became of a request, in a word or two. */
export const verdict = (r: Request): string => [r.status ?? "", r.reason ?? (r.outcome === "ok" ? "" : r.outcome)].filter(Boolean).join(" ") || r.outcome;
