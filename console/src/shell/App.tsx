import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import useMediaQuery from "@mui/material/useMediaQuery";
import { useMemo, useState } from "react";
import { Route, Routes } from "react-router";
import { LiveProvider } from "../api/live";
import { MeshPage } from "../mesh/MeshPage";
import { GatewayPage, ServicePage } from "../service/ServicePage";
import { TryPage } from "../tryout/TryPage";
import { Frame } from "./Frame";
import { Missing } from "./Missing";
import { makeTheme } from "./theme";

type Mode = "light" | "dark";

function remembered(): Mode | null {
  const mode = localStorage.getItem("nightjar.mode");
  return mode === "light" || mode === "dark" ? mode : null;
}

export function App() {
  const dark = useMediaQuery("(prefers-color-scheme: dark)", { noSsr: true });
  const [chosen, setChosen] = useState<Mode | null>(remembered);
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
            <Route path="/try" element={<TryPage />} />
            <Route path="*" element={<Missing />} />
          </Routes>
        </Frame>
      </LiveProvider>
    </ThemeProvider>
  );
}
