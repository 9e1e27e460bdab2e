import DarkMode from "@mui/icons-material/DarkModeOutlined";
import LightMode from "@mui/icons-material/LightModeOutlined";
import MenuIcon from "@mui/icons-material/Menu";
import SearchIcon from "@mui/icons-material/Search";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import IconButton from "@mui/material/IconButton";
import { lazy, Suspense, useEffect, useState } from "react";
import { RangePicker } from "./RangePicker";
import { RevisionState } from "./RevisionState";
import { SitePicker } from "./SitePicker";
import { Who } from "./Who";

const Search = lazy(() => import("./Search").then((m) => ({ default: m.Search })));

interface Props {
  mode: "light" | "dark";
  onToggle: () => void;
  /** Opens the navigation, on a narrow screen. */
  onMenu: () => void;
}

/** The bar on top: search, the time that all pages show, the revision in force, and who acts. */
export function TopBar({ mode, onToggle, onMenu }: Props) {
  const [isSearching, setSearching] = useState(false);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() !== "k" || !(e.ctrlKey || e.metaKey)) return;
      e.preventDefault();
      setSearching(true);
    };
    document.addEventListener("keydown", key);
    return () => document.removeEventListener("keydown", key);
  }, []);
  const other = mode === "dark" ? "Light colours" : "Dark colours";
  return (
    <Box
      component="header" data-test="top"
      sx={{ position: "sticky", top: 0, zIndex: 1200, height: 48, flex: "none", display: "flex", alignItems: "center", gap: { xs: 0.5, sm: 1.5 }, px: { xs: 0.5, md: 3 }, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper" }}
    >
      <IconButton size="small" onClick={onMenu} aria-label="Pages" sx={{ display: { sm: "none" } }}><MenuIcon fontSize="small" /></IconButton>
      <Button onClick={() => setSearching(true)} color="inherit" variant="outlined" startIcon={<SearchIcon fontSize="small" />} data-test="open-search" sx={{ color: "text.secondary", borderColor: "divider", minWidth: { md: 190 }, justifyContent: "flex-start", display: { xs: "none", sm: "flex" } }}>
        Search <Box component="kbd" sx={{ ml: "auto", pl: 1, font: "inherit", fontWeight: 400, display: { xs: "none", md: "inline" } }}>Ctrl-K</Box>
      </Button>
      <IconButton size="small" onClick={() => setSearching(true)} aria-label="Search" sx={{ display: { sm: "none" } }}><SearchIcon fontSize="small" /></IconButton>
      <RangePicker />
      <SitePicker />
      <Box sx={{ flex: 1, minWidth: 0, display: "flex", justifyContent: "flex-end" }}><RevisionState /></Box>
      <Who />
      <IconButton size="small" onClick={onToggle} aria-label={other} title={other}>{mode === "dark" ? <LightMode fontSize="small" /> : <DarkMode fontSize="small" />}</IconButton>
      {isSearching && <Suspense fallback={null}><Search onClose={() => setSearching(false)} /></Suspense>}
    </Box>
  );
}
