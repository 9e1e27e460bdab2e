import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import type { CallResult } from "../api/client";
import { millis, percent } from "../parts/format";
import { laneFill, useLaneColour } from "../parts/lanes";

const counts = (m: Record<string, number>): string =>
  Object.entries(m)
    .sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]))
    .map(([k, n]) => `${k.endsWith("/") ? `${k}(balanced)` : k} ${n}`)
    .join(", ") || "none";

/** The responses by version, beside the expected shares. */
export function ResultView({ result: t }: { result: CallResult }) {
  const colour = useLaneColour();
  const rows: [string, string][] = [
    ["Success", `${percent(t.done ? t.success : null)} (${percent(t.low)} to ${percent(t.high)})`],
    ["Status", counts(t.status)],
    ["Reasons", counts(t.reasons)],
    ["Routes", counts(t.routes)],
    ["Instances", counts(t.instances)],
    ["Latency", `p50 ${millis(t.p50MS)}, p95 ${millis(t.p95MS)}, p99 ${millis(t.p99MS)}`],
  ];
  if (Object.keys(t.revisions).length > 1) rows.push(["Revisions", `${counts(t.revisions)}: the rules changed meanwhile`]);
  return (
    <Paper variant="outlined" sx={{ p: 1.5 }} data-test="tally" data-final={t.isFinal}>
      <Box sx={{ fontWeight: 650, mb: 1 }}>
        {t.done} of {t.planned} requests done
      </Box>
      {t.versions.map((v, i) => (
        <Box key={`${v.service}/${v.version}`} sx={{ mb: 1.25 }} data-test={`tally-${v.service}/${v.version}`}>
          <Box sx={{ display: "flex", justifyContent: "space-between", gap: 1 }}>
            <span>
              <strong>{v.service}/{v.version}</strong> {v.count}
            </span>
            <Box component="span" sx={{ color: v.verdict === "differs" ? "error.main" : "text.secondary" }}>
              <Box component="strong" sx={{ color: "text.primary" }}>{percent(v.share)}</Box> ({percent(v.low)} to {percent(v.high)}), expected {percent(v.expected)}
              {t.isFinal && v.verdict !== "as expected" && `: ${v.verdict}`}
            </Box>
          </Box>
          <Box sx={{ position: "relative", height: 14, bgcolor: "action.hover", borderRadius: 0.5, mt: 0.25 }}>
            <Box sx={{ height: "100%", width: `${100 * v.share}%`, borderRadius: 0.5, ...laneFill(colour(i), i) }} />
            <Box sx={{ position: "absolute", top: 6, height: 2, left: `${100 * v.low}%`, width: `${100 * (v.high - v.low)}%`, bgcolor: "text.primary", opacity: 0.55 }} />
            <Box sx={{ position: "absolute", left: `calc(${100 * v.expected}% - 1px)`, top: -3, width: 2.5, height: 20, bgcolor: "text.primary" }} />
          </Box>
        </Box>
      ))}
      <Box component="table" sx={{ borderSpacing: 0, "& td": { py: 0.2, pr: 2, verticalAlign: "top" } }}>
        <tbody>
          {rows.map(([name, value]) => (
            <tr key={name}>
              <Box component="td" sx={{ color: "text.secondary" }}>{name}</Box>
              <Box component="td" sx={{ overflowWrap: "anywhere" }}>{value}</Box>
            </tr>
          ))}
        </tbody>
      </Box>
      {t.sample && (
        <Box sx={{ mt: 1 }}>
          <Box sx={{ color: "text.secondary" }}>One response: {t.sample.status}{t.sample.headers["Location"] && ` to ${t.sample.headers["Location"]}`}</Box>
          {t.sample.body && <Box component="pre" sx={{ m: 0, mt: 0.5, p: 1, bgcolor: "action.hover", borderRadius: 1, fontSize: 12, whiteSpace: "pre-wrap", overflowWrap: "anywhere", maxHeight: 160, overflow: "auto" }}>
            {t.sample.body}
          </Box>}
        </Box>
      )}
    </Paper>
  );
}
