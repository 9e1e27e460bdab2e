import DarkMode from "@mui/icons-material/DarkModeOutlined";
import LightMode from "@mui/icons-material/LightModeOutlined";
import Box from "@mui/material/Box";
import IconButton from "@mui/material/IconButton";
import Tooltip from "@mui/material/Tooltip";
import type { ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { useLive } from "../api/live";
import { Notices } from "./Notices";
import { RevisionLine } from "./RevisionLine";

const pages = [
  { to: "/", name: "Mesh" },
  { to: "/rules", name: "Rules" },
  { to: "/effects", name: "Effects" },
  { to: "/releases", name: "Releases" },
  { to: "/try", name: "Try" },
  { to: "/requests", name: "Requests" },
  { to: "/traces", name: "Traces" },
  { to: "/access", name: "Access" },
  { to: "/fleet", name: "Fleet" },
];

/** The frame of every page: pages, revision and notices. */
export function Frame({ mode, onToggle, children }: { mode: "light" | "dark"; onToggle: () => void; children: ReactNode }) {
  const { pathname } = useLocation();
  const { mesh } = useLive();
  const here = (to: string) => (to === "/" ? pathname === "/" || /^.(services|gateways)./.test(pathname) : pathname.startsWith(to));
  return (
    <Box sx={{ minHeight: "100vh", display: "flex", flexDirection: "column" }}>
      <Box
        component="header"
        sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 0.5, px: { xs: 2, md: 3 }, py: 1, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper" }}
      >
        <Box component={Link} to="/" sx={{ display: "flex", alignItems: "center", gap: 1, color: "text.primary", textDecoration: "none", fontWeight: 700, fontSize: 16 }}>
          <Box component="img" src="/mark.svg" alt="" sx={{ width: 26, height: 26 }} />
          Nightjar
        </Box>
        <Box component="nav" aria-label="Pages" sx={{ display: "flex", flexWrap: "wrap", gap: 0.5 }}>
          {pages.map((p) => (
            <Box
              key={p.to}
              component={Link}
              to={p.to}
              aria-current={here(p.to) ? "page" : undefined}
              sx={{
                px: 1, py: 0.5, color: "text.primary", textDecoration: "none", borderBottom: 2, borderColor: here(p.to) ? "warning.main" : "transparent",
                fontWeight: here(p.to) ? 650 : 450, "&:hover": { borderColor: "divider" },
              }}
            >
              {p.name}
            </Box>
          ))}
        </Box>
        <Box sx={{ flex: { xs: "1 0 100%", md: 1 }, order: { xs: 1, md: 0 }, minWidth: 0 }}>{mesh && <RevisionLine mesh={mesh} />}</Box>
        <Tooltip title={mode === "dark" ? "Light colours" : "Dark colours"}>
          <IconButton size="small" sx={{ ml: "auto" }} onClick={onToggle} aria-label={mode === "dark" ? "Light colours" : "Dark colours"}>
            {mode === "dark" ? <LightMode fontSize="small" /> : <DarkMode fontSize="small" />}
          </IconButton>
        </Tooltip>
      </Box>
      <Notices />
      <Box component="main" sx={{ flex: 1, px: { xs: 2, md: 3 }, py: 2, width: "100%", maxWidth: 1500, mx: "auto" }}>
        {children}
      </Box>
    </Box>
  );
}
