import Box from "@mui/material/Box";
import type { ReactNode } from "react";

/** Words that screen readers say when they change, and nobody sees. */
export function Aside({ children }: { children: ReactNode }) {
  return <Box role="status" sx={{ position: "absolute", width: "1px", height: "1px", overflow: "hidden", whiteSpace: "nowrap", clipPath: "inset(50%)" }}>{children}</Box>;
}
