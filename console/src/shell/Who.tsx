import Person from "@mui/icons-material/PersonOutlined";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { lazy, Suspense, useState, useSyncExternalStore } from "react";
import { onWho, whoNow } from "../api/who";

const WhoMenu = lazy(() => import("./WhoMenu"));

/** Who is signed in, with what they may do, and the way out. */
export function Who() {
  const { who } = useSyncExternalStore(onWho, whoNow);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  if (!who) return null;
  return (
    <>
      <Button color="inherit" startIcon={<Person fontSize="small" />} aria-label={`You are ${who.name}, ${who.role}`} data-test="who" sx={{ maxWidth: { xs: 90, sm: 190 } }} onClick={(e) => setAnchor(e.currentTarget)}>
        <Box component="span" sx={{ overflow: "hidden", textOverflow: "ellipsis" }}>{who.name}</Box>
        {who.role === "viewer" && <Box component="span" sx={{ ml: 0.75, color: "text.secondary", fontWeight: 400, display: { xs: "none", sm: "inline" } }}>viewer</Box>}
      </Button>
      {anchor && <Suspense fallback={null}><WhoMenu who={who} anchor={anchor} onClose={() => setAnchor(null)} /></Suspense>}
    </>
  );
}
