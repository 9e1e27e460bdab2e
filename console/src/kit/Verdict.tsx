import Box from "@mui/material/Box";

const bad = new Set(["worse", "slower", "missed", "withdrawn", "failed", "refused", "differs"]);
const good = new Set(["better", "faster", "met", "completed"]);

/** A verdict, with a mark for good and bad ones. */
export function Verdict({ of }: { of: string }) {
  const colour = bad.has(of) ? "error.main" : good.has(of) ? "success.main" : "text.secondary";
  return (
    <Box component="span" sx={{ color: colour, fontWeight: bad.has(of) || good.has(of) ? 650 : 450, whiteSpace: "nowrap" }}>
      {bad.has(of) ? "▼ " : good.has(of) ? "▲ " : ""}{of}
    </Box>
  );
}
