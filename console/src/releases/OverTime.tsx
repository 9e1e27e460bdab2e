import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import type { JudgementSide, Release } from "../api/client";
import { SharedCursor, TimeChart } from "../kit/TimeChart";

/** Share and success of both versions over time: a point per judgement, of the requests since the last one. */
export function OverTime({ release: r }: { release: Release }) {
  const { palette } = useTheme();
  const list = r.judgements ?? [];
  if (list.length < 2) return null;
  const began = Date.parse(r.began);
  const common = { times: list.map((j) => (Date.parse(j.at) - began) / 1000), isRelative: true, max: 100, format: (v: number) => `${Number(v.toFixed(1))}%` };
  const side = (of: (j: (typeof list)[number]) => JudgementSide) => {
    const values = list.map((j) => of(j).success);
    return values.map((v) => (v === null ? null : 100 * v));
  };
  const low = Math.min(100, ...[...side((j) => j.newTo), ...side((j) => j.newFrom)].map((v) => v ?? 100));
  return (
    <SharedCursor>
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 1fr) minmax(0, 1fr)" }, mt: 1 }} data-test="over-time">
        <TimeChart
          {...common} title="Share of the requests" min={0}
          lines={[
            { name: `${r.to}, with its cohort`, colour: palette.primary.main, values: list.map((j) => 100 * j.share) },
            { name: "planned", colour: palette.text.secondary, isDashed: true, values: list.map((j) => 100 * (r.steps[j.step]?.share ?? 0)) },
          ]}
        />
        <TimeChart
          {...common} title="Success" min={Math.max(0, Math.floor(low - 1))}
          lines={[
            { name: r.to, colour: palette.primary.main, values: side((j) => j.newTo) },
            { name: r.from, colour: palette.warning.main, isDashed: true, values: side((j) => j.newFrom) },
          ]}
        />
      </Box>
    </SharedCursor>
  );
}
