import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import useMediaQuery from "@mui/material/useMediaQuery";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, Suspense, useMemo, useState, useSyncExternalStore } from "react";
import { Route, Switch } from "wouter";
import { ApiError } from "../api/client";
import { onWho, whoNow } from "../api/who";
import { makeTheme } from "../kit/theme";
import { Frame } from "./Frame";
import { PageBoundary } from "./PageBoundary";
import { places } from "./pages";

const SignIn = lazy(() => import("./SignIn"));
const NotFound = lazy(() => import("./NotFound"));

type Mode = "light" | "dark";

function storedMode(): Mode | null {
  const mode = localStorage.getItem("nightjar.mode");
  return mode === "light" || mode === "dark" ? mode : null;
}

/** Reads what failed again, unless the service says that the question is wrong. Nothing is read while the page is hidden. */
const client = new QueryClient({
  defaultOptions: {
    queries: {
      networkMode: "always", refetchOnWindowFocus: "always", retryDelay: (n) => Math.min(4000, 500 * 2 ** n),
      retry: (n, e) => !(e instanceof ApiError && e.problem.status < 500) && n < 20,
    },
  },
});

export function App() {
  const isDark = useMediaQuery("(prefers-color-scheme: dark)", { noSsr: true });
  const [chosen, setChosen] = useState<Mode | null>(storedMode);
  const mode: Mode = chosen ?? (isDark ? "dark" : "light");
  const { isOut } = useSyncExternalStore(onWho, whoNow);
  const theme = useMemo(() => makeTheme(mode), [mode]);
  const toggle = () => {
    const next = mode === "dark" ? "light" : "dark";
    localStorage.setItem("nightjar.mode", next);
    setChosen(next);
  };
  return (
    <QueryClientProvider client={client}>
      <ThemeProvider theme={theme}>
        <CssBaseline />
        <PageBoundary>
          {isOut ? <Suspense fallback={null}><SignIn /></Suspense> : <Frame mode={mode} onToggle={toggle}>
            <Switch>
              {places.map(({ path, Page }) => <Route key={path} path={path}><PageBoundary><Page /></PageBoundary></Route>)}
              <Route><PageBoundary><NotFound /></PageBoundary></Route>
            </Switch>
          </Frame>}
        </PageBoundary>
      </ThemeProvider>
    </QueryClientProvider>
  );
}
