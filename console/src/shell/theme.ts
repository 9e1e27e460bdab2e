import { createTheme, type Theme } from "@mui/material/styles";

/** Dusk on the water: warm paper by day, deep slate by night, one lamp colour. */
export function makeTheme(mode: "light" | "dark"): Theme {
  const day = mode === "light";
  return createTheme({
    palette: {
      mode,
      primary: { main: day ? "#17505c" : "#7cc7c9" },
      warning: { main: day ? "#9a5200" : "#f0b35c" },
      error: { main: day ? "#a1262d" : "#f58f86" },
      success: { main: day ? "#1f6b4c" : "#6fd0a3" },
      background: { default: day ? "#f4f1ea" : "#0f181d", paper: day ? "#fffdf9" : "#17232a" },
      text: { primary: day ? "#1b2a31" : "#ece6da", secondary: day ? "#56656d" : "#a3b1b8" },
      divider: day ? "#d8d1c3" : "#2d3d46",
    },
    shape: { borderRadius: 8 },
    typography: {
      fontFamily: "'Inter Variable', sans-serif",
      fontSize: 13,
      h1: { fontSize: "1.35rem", fontWeight: 650, letterSpacing: "-0.01em" },
      h2: { fontSize: "1rem", fontWeight: 650 },
      button: { textTransform: "none", fontWeight: 600 },
    },
    components: {
      MuiCssBaseline: { styleOverrides: { body: { fontVariantNumeric: "tabular-nums" } } },
      MuiButton: { defaultProps: { disableElevation: true } },
      MuiPaper: { styleOverrides: { root: { backgroundImage: "none" } } },
    },
  });
}
