import Person from "@mui/icons-material/PersonOutlined";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { lazy, Suspense, useState, useSyncExternalStore } from "react";
import { author, onAuthor } from "../api/author";

const WhoForm = lazy(() => import("./WhoForm"));

/** Who acts: the name that publishes, splits, drills and drafts have. */
export function Who() {
  const name = useSyncExternalStore(onAuthor, author);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <Button color="inherit" startIcon={<Person fontSize="small" />} aria-label={`You act as ${name}`} data-test="who" sx={{ maxWidth: { xs: 90, sm: 150 } }} onClick={(e) => setAnchor(e.currentTarget)}>
        <Box component="span" sx={{ overflow: "hidden", textOverflow: "ellipsis" }}>{name}</Box>
      </Button>
      {anchor && <Suspense fallback={null}><WhoForm anchor={anchor} onClose={() => setAnchor(null)} /></Suspense>}
    </>
  );
}
