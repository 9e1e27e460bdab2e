import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { Suspense, type ReactNode } from "react";
import { ErrorBoundary, type FallbackProps } from "react-error-boundary";
import { useLocation } from "wouter";
import { Banner } from "./Banner";

/** Tells whether the code of a page could not be loaded: after an upgrade, old code is gone. */
const isGone = (e: unknown): boolean => e instanceof Error && /dynamically imported module|Importing a module|Failed to fetch|preload CSS/i.test(e.message);

/** A page that fails leaves the frame and the other pages as they are. */
export function PageBoundary({ children }: { children: ReactNode }) {
  const [pathname] = useLocation();
  return (
    <ErrorBoundary FallbackComponent={Failed} resetKeys={[pathname]}>
      <Suspense fallback={<Box sx={{ color: "text.secondary", py: 3 }}>Loading</Box>}>{children}</Suspense>
    </ErrorBoundary>
  );
}

function Failed({ error }: FallbackProps) {
  const gone = isGone(error);
  return (
    <Banner severity={gone ? "info" : "error"} test="page-failed" action={<Button color="inherit" onClick={() => location.reload()}>Reload</Button>}>
      {gone
        ? "This page could not be loaded. If Nightjar was upgraded since you opened it, reload to get the new console. Drafts are kept."
        : `This page failed: ${error instanceof Error ? error.message : String(error)}. Reload it; the other pages still work.`}
    </Banner>
  );
}
