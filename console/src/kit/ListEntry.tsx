import Box from "@mui/material/Box";
import type { ReactNode } from "react";

/** An entry of a list; the picked one is shown beside the list. */
export function ListEntry({ picked, onPick, test, children }: { picked: boolean; onPick: () => void; test: string; children: ReactNode }) {
  return (
    <Box
      component="button" type="button" onClick={onPick} aria-current={picked ? "true" : undefined} data-test={test}
      sx={{
        display: "block", width: "100%", textAlign: "left", font: "inherit", color: "inherit", bgcolor: picked ? "background.paper" : "transparent", border: 0, borderLeft: 3, cursor: "pointer",
        borderColor: picked ? "warning.main" : "transparent", px: 1.25, py: 0.6, "&:hover": { bgcolor: "background.paper" },
      }}
    >
      {children}
    </Box>
  );
}
