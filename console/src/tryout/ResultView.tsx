import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import type { CallResult } from "../api/client";
import { millis, percent } from "../kit/format";
import { FactTable } from "../kit/FactTable";
import { type } from "../kit/theme";
import { useVersionFill } from "../kit/versions";
import { VersionMark } from "../kit/VersionMark";

const counts = (m: Record<string, number>): string =>
  Object.entries(m)
    .sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]))
    .map(([k, n]) => `${k.endsWith("/") ? `${k}(balanced)` : k} ${n}`)
    .join(", ") || "none";

/** The responses by version, beside the expected shares. */
export function ResultView({ result: t }: { result: CallResult }) {
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
      {t.versions.map((v) => <VersionShare key={`${v.service}/${v.version}`} of={v} isFinal={t.isFinal} />)}
      <FactTable head={["Figure", "Value"]} rows={rows.map(([name, value]) => ({ key: name, cells: [name, <Box key="value" component="span" sx={{ overflowWrap: "anywhere" }}>{value}</Box>] }))} />
      {t.sample && (
        <Box sx={{ mt: 1 }}>
          <Box sx={{ color: "text.secondary" }}>One response: {t.sample.status}{t.sample.headers["Location"] && ` to ${t.sample.headers["Location"]}`}</Box>
          {t.sample.body && <Box component="pre" sx={{ m: 0, mt: 0.5, p: 1, bgcolor: "action.hover", borderRadius: 1, fontSize: type.small, whiteSpace: "pre-wrap", overflowWrap: "anywhere", maxHeight: 160, overflow: "auto" }}>
            {t.sample.body}
          </Box>}
        </Box>
      )}
    </Paper>
  );
}

/** The share of one version with its interval, beside the expected share. */
function VersionShare({ of: v, isFinal }: { of: CallResult["versions"][number]; isFinal: boolean }) {
  const fill = useVersionFill(v.service);
  return (
    <Box sx={{ mb: 1.5 }} data-test={`tally-${v.service}/${v.version}`}>
      <Box sx={{ display: "flex", flexWrap: "wrap", justifyContent: "space-between", columnGap: 1 }}>
        <span><VersionMark service={v.service} version={v.version} /><strong>{v.service}/{v.version}</strong> {v.count}</span>
        <Box component="span" sx={{ color: v.verdict === "differs" ? "error.main" : "text.secondary" }}>
          <Box component="strong" sx={{ color: "text.primary" }}>{percent(v.share)}</Box> ({percent(v.low)} to {percent(v.high)}), expected {percent(v.expected)}
          {isFinal && v.verdict !== "as expected" && `: ${v.verdict}`}
        </Box>
      </Box>
      <Box sx={{ position: "relative", height: 14, bgcolor: "action.hover", borderRadius: 0.5, mt: 0.5 }}>
        <Box sx={{ height: "100%", width: `${100 * v.share}%`, borderRadius: 0.5, ...fill(v.version) }} />
        <Box sx={{ position: "absolute", top: 6, height: 2, left: `${100 * v.low}%`, width: `${100 * (v.high - v.low)}%`, bgcolor: "text.primary", opacity: 0.55 }} />
        <Box sx={{ position: "absolute", left: `calc(${100 * v.expected}% - 1px)`, top: -3, width: 2.5, height: 20, bgcolor: "text.primary" }} />
      </Box>
    </Box>
  );
}
