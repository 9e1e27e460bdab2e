import Box from "@mui/material/Box";
import type { Figures } from "../api/client";
import { millis, percent, rate } from "./format";

/** The figures of one group of requests, in one line. */
export function FiguresLine({ figures }: { figures: Figures }) {
  const f = figures;
  if (f.requests === 0) return <Box sx={{ color: "text.secondary" }}>no requests in this window</Box>;
  const reasons = Object.entries(f.reasons ?? {});
  const items: [string, string][] = [
    ["rate", `${rate(f.rps)}/s`],
    ["success", `${percent(f.success)} (${percent(f.successLow)} to ${percent(f.successHigh)})`],
    ["p50", millis(f.p50MS)],
    ["p95", millis(f.p95MS)],
    ["p99", millis(f.p99MS)],
  ];
  if (f.failed > 0) items.push(["failed", String(f.failed)]);
  if (f.refused > 0) items.push(["refused", String(f.refused)]);
  if (reasons.length > 0) items.push(["reasons", reasons.map(([k, n]) => `${k} ${n}`).join(", ")]);
  return (
    <Box component="dl" sx={{ display: "flex", flexWrap: "wrap", columnGap: 3, rowGap: 0.25, m: 0 }}>
      {items.map(([name, value]) => (
        <Box key={name} sx={{ display: "flex", gap: 0.75 }}>
          <Box component="dt" sx={{ color: "text.secondary" }}>{name}</Box>
          <Box component="dd" sx={{ m: 0, fontWeight: 600 }}>{value}</Box>
        </Box>
      ))}
    </Box>
  );
}
