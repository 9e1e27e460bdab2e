import Box from "@mui/material/Box";

const marks: Record<string, string> = { completed: "▲", withdrawn: "▼", held: "‖", ready: "○" };

/** The state of a release, with a mark. */
export function ReleaseState({ of }: { of: string }) {
  const colour = of === "completed" ? "success.main" : of === "withdrawn" ? "error.main" : of === "held" ? "warning.main" : "primary.main";
  return <Box component="span" data-test="state" sx={{ color: colour, fontWeight: 650, whiteSpace: "nowrap" }}>{marks[of] ?? "▸"} {of}</Box>;
}
