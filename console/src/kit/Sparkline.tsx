import Box from "@mui/material/Box";

const width = 130;
const height = 20;

/** Shares over time as a small line from 0 to 1; parts below 99% are red. The lowest share is written beside it. */
export function Sparkline({ values, label }: { values: (number | null)[]; label: string }) {
  const known = values.flatMap((v, i) => (v === null ? [] : [{ v, i }]));
  if (known.length < 2) return <Box component="span" sx={{ color: "text.secondary" }}>–</Box>;
  const low = Math.min(0.9, ...known.map((k) => k.v)); // the scale ends there, so that one percent can be seen
  const x = (i: number) => (i / Math.max(1, values.length - 1)) * width;
  const y = (v: number) => height - 2 - ((v - low) / (1 - low)) * (height - 4);
  return (
    <Box component="svg" width={width} height={height} role="img" aria-label={`${label}: at least ${(100 * Math.min(...known.map((k) => k.v))).toFixed(1)}%`} sx={{ color: "primary.main", "& .bad": { color: "error.main" } }}>
      {known.slice(1).map((k, n) => {
        const before = known[n];
        return before && <line key={k.i} className={Math.min(before.v, k.v) < 0.99 ? "bad" : ""} x1={x(before.i)} y1={y(before.v)} x2={x(k.i)} y2={y(k.v)} stroke="currentColor" strokeWidth={1.5} />;
      })}
    </Box>
  );
}
