import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import useMediaQuery from "@mui/material/useMediaQuery";
import { lazy, Suspense, useMemo, useState } from "react";
import { Route, Routes } from "react-router";
import { LiveProvider } from "../api/live";
import { FleetPage } from "../fleet/FleetPage";
import { MeshPage } from "../mesh/MeshPage";
import { GatewayPage, ServicePage } from "../service/ServicePage";
import { TryPage } from "../tryout/TryPage";
import { Frame } from "./Frame";
import { NotFound } from "./NotFound";
import { makeTheme } from "./theme";

const loads = {
  "/rules": () => import("../rules/RulesPage").then((m) => ({ default: m.RulesPage })),
  "/requests": () => import("../requests/RequestsPage").then((m) => ({ default: m.RequestsPage })),
  "/effects": () => import("../effects/EffectsPage").then((m) => ({ default: m.EffectsPage })),
  "/releases": () => import("../releases/ReleasesPage").then((m) => ({ default: m.ReleasesPage })),
  "/access": () => import("../access/AccessPage").then((m) => ({ default: m.AccessPage })),
  "/traces": () => import("../traces/TracesPage").then((m) => ({ default: m.TracesPage })),
};
// The code of the page is loaded while the frame around it is drawn.
for (const [path, load] of Object.entries(loads)) if (location.pathname.startsWith(path)) void load();
const RulesPage = lazy(loads["/rules"]);
const RequestsPage = lazy(loads["/requests"]);
const TracesPage = lazy(loads["/traces"]);
const EffectsPage = lazy(loads["/effects"]);
const ReleasesPage = lazy(loads["/releases"]);
const AccessPage = lazy(loads["/access"]);

type Mode = "light" | "dark";

function storedMode(): Mode | null {
  const mode = localStorage.getItem("nightjar.mode");
  return mode === "light" || mode === "dark" ? mode : null;
}

export function App() {
  const dark = useMediaQuery("(prefers-color-scheme: dark)", { noSsr: true });
  const [chosen, setChosen] = useState<Mode | null>(storedMode);
  const mode: Mode = chosen ?? (dark ? "dark" : "light");
  const theme = useMemo(() => makeTheme(mode), [mode]);
  const toggle = () => {
    const next = mode === "dark" ? "light" : "dark";
    localStorage.setItem("nightjar.mode", next);
    setChosen(next);
  };
  return (
    <ThemeProvider theme={theme}>
      <CssBaseline />
      <LiveProvider>
        <Frame mode={mode} onToggle={toggle}>
          <Routes>
            <Route path="/" element={<MeshPage />} />
            <Route path="/services/:name" element={<ServicePage />} />
            <Route path="/gateways/:name" element={<GatewayPage />} />
            <Route path="/rules" element={<Suspense fallback="Loading the editor"><RulesPage /></Suspense>} />
            <Route path="/requests" element={<Suspense fallback="Loading"><RequestsPage /></Suspense>} />
            <Route path="/traces/:id?" element={<Suspense fallback="Loading"><TracesPage /></Suspense>} />
            <Route path="/effects" element={<Suspense fallback="Loading"><EffectsPage /></Suspense>} />
            <Route path="/releases/:name?" element={<Suspense fallback="Loading"><ReleasesPage /></Suspense>} />
            <Route path="/access" element={<Suspense fallback="Loading"><AccessPage /></Suspense>} />
            <Route path="/try" element={<TryPage />} />
            <Route path="/fleet" element={<FleetPage />} />
            <Route path="*" element={<NotFound />} />
          </Routes>
        </Frame>
      </LiveProvider>
    </ThemeProvider>
  );
}
