import Box from "@mui/material/Box";
import type { ReactNode } from "react";
import { Command } from "./Command";

/** What a page says while it has nothing to show: why, and what to do. */
export function EmptyState({ title, children, commands = [] }: { title: string; children?: ReactNode; commands?: string[] }) {
  return (
    <Box sx={{ py: 3, maxWidth: "75ch" }} data-test="empty">
      <Box component="h2" sx={{ typography: "h2", m: 0, mb: 0.5 }}>{title}</Box>
      <Box sx={{ color: "text.secondary" }}>{children}</Box>
      {commands.map((line) => <Command key={line} line={line} />)}
    </Box>
  );
}
