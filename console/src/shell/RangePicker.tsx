import Clock from "@mui/icons-material/Schedule";
import Button from "@mui/material/Button";
import { lazy, Suspense, useState } from "react";
import { useRange } from "../kit/range";

const RangeMenu = lazy(() => import("./RangeMenu"));

/** Chooses the time that all pages show. */
export function RangePicker() {
  const range = useRange();
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <Button
        color={range.at || range.span ? "warning" : "inherit"} variant="outlined" startIcon={<Clock fontSize="small" />} onClick={(e) => setAnchor(e.currentTarget)}
        aria-haspopup="menu" data-test="range" sx={range.at || range.span ? {} : { borderColor: "divider" }}
      >
        {range.label}
      </Button>
      {anchor && <Suspense fallback={null}><RangeMenu anchor={anchor} onClose={() => setAnchor(null)} /></Suspense>}
    </>
  );
}
