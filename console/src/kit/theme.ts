import { createTheme, type Theme } from "@mui/material/styles";

/** Roles that colours have beside those of every theme; docs/decisions/look.md says what they mean. */
interface Roles {
  /** Requests that flow. */
  flow: string;
  /** Versions; the pattern of each is in kit/versions.ts. */
  lanes: string[];
  /** What light falls through in a pattern. */
  gap: string;
  /** Latency, in one hue from light p50 to dark p99. */
  latency: { p50: string; p95: string; p99: string };
  /** Shades behind compared windows, and behind lines that were added and removed. */
  before: string;
  after: string;
  added: string;
  removed: string;
}

declare module "@mui/material/styles" {
  interface Palette {
    roles: Roles;
  }
  interface PaletteOptions {
    roles?: Roles;
  }
}

/** The colours of lanes are those of M. Okabe and K. Ito, "Color Universal Design", 2008, darker on paper and lighter at night. */
const day: Roles = {
  flow: "#6b9aa1",
  lanes: ["#0072b2", "#b06a00", "#00805c", "#b0568b", "#7a6a00", "#4d5a66"],
  gap: "rgba(255,255,255,.42)",
  latency: { p50: "#5d9aa5", p95: "#17505c", p99: "#0a2429" },
  before: "rgba(86,101,109,.14)",
  after: "rgba(154,82,0,.12)",
  added: "#1f6b4c1f",
  removed: "#a1262d1f",
};

const night: Roles = {
  flow: "#3f7f8c",
  lanes: ["#56a8e0", "#f0a83c", "#3cc79a", "#e393c2", "#d6c84a", "#a9b6c1"],
  gap: "rgba(15,24,29,.42)",
  latency: { p50: "#d3eded", p95: "#7cc7c9", p99: "#3f9096" },
  before: "rgba(163,177,184,.16)",
  after: "rgba(240,179,92,.14)",
  added: "#6fd0a333",
  removed: "#f58f8633",
};

const px = (n: number): string => `${n / 16}rem`;

/** Dusk on the water: warm paper by day, deep slate by night, one lamp colour. Type is 11, 12, 13, 15 or 20 px. */
export function makeTheme(mode: "light" | "dark"): Theme {
  const isDay = mode === "light";
  const text = { fontSize: px(13), lineHeight: 1.5 };
  return createTheme({
    palette: {
      mode,
      primary: { main: isDay ? "#17505c" : "#7cc7c9" },
      warning: { main: isDay ? "#8f4c00" : "#f0b35c" },
      error: { main: isDay ? "#a1262d" : "#f58f86" },
      success: { main: isDay ? "#1f6b4c" : "#6fd0a3" },
      info: { main: isDay ? "#17505c" : "#7cc7c9" },
      background: { default: isDay ? "#f4f1ea" : "#0f181d", paper: isDay ? "#fffdf9" : "#17232a" },
      text: { primary: isDay ? "#1b2a31" : "#ece6da", secondary: isDay ? "#515f67" : "#a3b1b8" },
      divider: isDay ? "#d8d1c3" : "#2d3d46",
      roles: isDay ? day : night,
    },
    shape: { borderRadius: 8 },
    transitions: { create: () => "none" }, // motion shows direction and changes of position, and those are our own
    typography: {
      fontFamily: "'Inter Variable', sans-serif",
      body1: text,
      body2: text,
      caption: { fontSize: px(12) },
      h1: { fontSize: px(20), fontWeight: 650, letterSpacing: "-0.01em", lineHeight: 1.3 },
      h2: { fontSize: px(15), fontWeight: 650, lineHeight: 1.4 },
      h3: { fontSize: px(13), fontWeight: 650, lineHeight: 1.4 },
      button: { fontSize: px(13), textTransform: "none", fontWeight: 600 },
    },
    components: {
      MuiCssBaseline: { styleOverrides: { html: { scrollPaddingTop: 56 }, body: { fontVariantNumeric: "tabular-nums" } } },
      MuiButton: {
        defaultProps: { disableElevation: true, size: "small" },
        styleOverrides: { root: { fontSize: px(13), minHeight: 32, paddingTop: 2, paddingBottom: 2, whiteSpace: "nowrap", transition: "none" } },
      },
      MuiToggleButton: { styleOverrides: { root: { fontSize: px(13), textTransform: "none", paddingTop: 3, paddingBottom: 3, color: isDay ? "#1b2a31" : "#ece6da" } } },
      MuiTab: { styleOverrides: { root: { fontSize: px(13), minHeight: 36, padding: "4px 12px", minWidth: 0 } } },
      MuiTabs: { styleOverrides: { root: { minHeight: 36 } } },
      MuiPaper: { styleOverrides: { root: { backgroundImage: "none" } } },
      MuiAlert: { styleOverrides: { root: { padding: "2px 12px", alignItems: "center" }, icon: { padding: "4px 0" }, message: { padding: "4px 0" }, action: { paddingTop: 0 } } },
      MuiInputBase: { styleOverrides: { root: { fontSize: px(13) } } },
      MuiInputLabel: { styleOverrides: { root: { fontSize: px(13) } } },
      MuiFormHelperText: { styleOverrides: { root: { fontSize: px(11), marginTop: 0 } } },
      MuiTextField: { defaultProps: { size: "small" } },
      MuiTooltip: { defaultProps: { describeChild: true }, styleOverrides: { tooltip: { fontSize: px(12) } } },
    },
  });
}

/** Type for figures and notes, in rem: 11, 12, 13, 15 and 20 px. */
export const type = { tiny: px(11), small: px(12), body: px(13), head: px(15), page: px(20) };
