import Box from "@mui/material/Box";
import { lazy, Suspense, useState, type ReactNode } from "react";
import { DrawerPlace } from "../kit/Drawer";
import { Notices } from "./Notices";
import { SideNav } from "./SideNav";
import { TopBar } from "./TopBar";
import { Tour } from "./Tour";

const PagesDrawer = lazy(() => import("./PagesDrawer"));

interface Props {
  mode: "light" | "dark";
  onToggle: () => void;
  children: ReactNode;
}

/** The frame of every page: navigation at the side, search, time and revision on top, notices below, details to the right. */
export function Frame({ mode, onToggle, children }: Props) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  const [isOpen, setOpen] = useState(false);
  return (
    <DrawerPlace value={place}>
      <Box component="a" href="#page" sx={{ position: "absolute", left: 8, top: -60, zIndex: 1400, bgcolor: "background.paper", color: "text.primary", p: 1, "&:focus": { top: 8 } }}>Skip to the page</Box>
      <Box sx={{ minHeight: "100vh", display: "flex" }}>
        <Box sx={{ display: { xs: "none", sm: "block" }, flex: "none", position: "sticky", top: 0, height: "100vh", overflowY: "auto", borderRight: 1, borderColor: "divider", bgcolor: "background.paper" }}>
          <SideNav />
        </Box>
        {isOpen && <Suspense fallback={null}><PagesDrawer onClose={() => setOpen(false)} /></Suspense>}
        <Box sx={{ flex: 1, minWidth: 0, display: "flex", flexDirection: "column" }}>
          <TopBar mode={mode} onToggle={onToggle} onMenu={() => setOpen(true)} />
          <Box sx={{ display: "flex", flex: 1, minWidth: 0, alignItems: "flex-start" }}>
            <Box sx={{ flex: 1, minWidth: 0 }}>
              <Notices />
              <Box component="main" id="page" tabIndex={-1} sx={{ px: { xs: 1.5, md: 3 }, py: 1.5, maxWidth: 1760, mx: "auto", "&:focus": { outline: "none" } }}><Tour />{children}</Box>
            </Box>
            <aside ref={setPlace} />
          </Box>
        </Box>
      </Box>
    </DrawerPlace>
  );
}
