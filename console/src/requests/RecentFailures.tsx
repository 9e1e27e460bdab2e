import Box from "@mui/material/Box";
import { Link } from "wouter";
import { queries, type RequestRecord } from "../api/client";
import type { paths } from "../api/schema";
import { millis, moment } from "../kit/format";
import { type } from "../kit/theme";

type Query = NonNullable<paths["/api/v1/requests/failures"]["get"]["parameters"]["query"]>;

const pace = 2000;

/** Recent requests of a group that failed or were refused, with links to their traces. */
export function RecentFailures({ query, limit = 8 }: { query: Query; limit?: number }) {
  const { data } = queries.useQuery("get", "/api/v1/requests/failures", { params: { query: { ...query, limit } } }, { refetchInterval: pace });
  const list = data?.requests;
  if (!list) return <Box sx={{ color: "text.secondary" }}>Loading recent failures</Box>;
  if (list.length === 0) return <Box sx={{ color: "text.secondary" }}>No recent failures.</Box>;
  return (
    <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, fontSize: type.small }} data-test="failures">
      {list.map((r) => (
        <Box component="li" key={`${r.at}${r.proxy}`} sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, py: 0.5, borderBottom: 1, borderColor: "divider" }}>
          <Box component="time" dateTime={r.at} title={r.at} sx={{ color: "text.secondary" }}>{moment(r.at)}</Box>
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
const outcomeText = (r: RequestRecord): string => [r.status ?? "", r.reason ?? (r.outcome === "ok" ? "" : r.outcome)].filter(Boolean).join(" ") || r.outcome;
