import Box from "@mui/material/Box";
import { Link, useLocation } from "wouter";
import { rangeSearch, useRange } from "../kit/range";
import { type } from "../kit/theme";
import { groups, pages, type Page } from "./pages";

/** Tells whether an address belongs to a page. */
const isHere = (page: Page, pathname: string): boolean => {
  if (page.to === "/") return pathname === "/";
  if (page.to === "/services" && pathname.startsWith("/gateways/")) return true;
  return pathname === page.to || pathname.startsWith(`${page.to}/`);
};

/** The pages in four groups. On a narrow screen the words stand small below the icons. */
export function SideNav({ isWide = false, onGo }: { isWide?: boolean; onGo?: () => void }) {
  const [pathname] = useLocation();
  const search = rangeSearch(useRange());
  const wide = isWide ? "&" : "@media (min-width: 1100px)";
  return (
    <Box
      component="nav" aria-label="Pages"
      sx={{
        width: 72, py: 1, "& .word": { display: "none" }, "& .page": { flexDirection: "column", gap: 0, py: 0.5, fontSize: type.tiny, textAlign: "center" },
        [wide]: { width: 176, "& .word": { display: "block" }, "& .page": { flexDirection: "row", gap: 1.5, px: 2, py: 0.5, fontSize: type.body } },
      }}
    >
      <Box component={Link} to={`/${search}`} onClick={onGo} className="page" sx={{ display: "flex", alignItems: "center", height: 40, color: "text.primary", textDecoration: "none", fontWeight: 700 }} aria-label="Nightjar, to the mesh">
        <Box component="img" src="/mark.svg" alt="" sx={{ width: 24, height: 24 }} />
        <span className="word">Nightjar</span>
      </Box>
      {groups.map((group) => (
        <Box key={group} component="section" aria-label={group} sx={{ mt: 1 }}>
          <Box className="word" aria-hidden sx={{ px: 2, fontSize: type.tiny, color: "text.secondary" }}>{group}</Box>
          {pages.filter((p) => p.group === group).map((p) => {
            const here = isHere(p, pathname);
            return (
              <Box
                key={p.to} component={Link} to={p.to + search} onClick={onGo} className="page" aria-current={here ? "page" : undefined}
                sx={{
                  display: "flex", alignItems: "center", minHeight: 32, color: "text.primary", textDecoration: "none", borderLeft: 3, borderColor: here ? "warning.main" : "transparent",
                  fontWeight: here ? 650 : 450, "&:hover": { bgcolor: "action.hover" }, "&:focus-visible": { outline: 2, outlineStyle: "solid", outlineColor: "primary.main", outlineOffset: -2 },
                }}
              >
                <p.icon sx={{ fontSize: 18, color: here ? "warning.main" : "text.secondary" }} aria-hidden />
                {p.name}
              </Box>
            );
          })}
        </Box>
      ))}
    </Box>
  );
}
