import Box from "@mui/material/Box";
import { type ReactNode } from "react";

interface Props {
  severity: "error" | "info";
  test: string;
  /** A button, at the right. */
  action?: ReactNode;
  children: ReactNode;
}

/** Says what is wrong with the console or the service itself. It is part of the start, so it needs nothing that may be gone. */
export function Banner({ severity, test, action, children }: Props) {
  return (
    <Box
      role="alert" data-test={test}
      sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", gap: 1.5, px: { xs: 1.5, md: 3 }, py: 1, bgcolor: "background.paper", borderBottom: 1, borderColor: "divider", borderLeft: 4, borderLeftColor: `${severity}.main` }}
    >
      <Box sx={{ flex: 1, minWidth: 200 }}>{children}</Box>
      {action}
    </Box>
  );
}
