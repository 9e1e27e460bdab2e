import Box from "@mui/material/Box";
import { createContext, lazy, Suspense, useContext, useMemo, useState, type ReactNode } from "react";
import type { Mark } from "../api/client";
import type { Shade } from "./Plot";

// The charts are large: they are loaded after the page around them.
const Plot = lazy(() => import("./Plot"));

/** One line of a chart. */
export interface Line {
  name: string;
  colour: string;
  isDashed?: boolean;
  /** One for each time; null: nothing was measured. */
  values: (number | null)[];
  /** 95% intervals, drawn as a band. */
  low?: (number | null)[];
  high?: (number | null)[];
}

export interface TimeChartProps {
  title: string;
  /** Seconds since 1970 or, of a chart that isRelative, since its begin. */
  times: number[];
  isRelative?: boolean;
  lines: Line[];
  format: (value: number) => string;
  min?: number;
  max?: number;
  /** Revisions, stages and drills, named above the plot. */
  marks?: Mark[];
  /** Windows that are compared. */
  shades?: Shade[];
  /** In pixels. */
  height?: number;
}

/** Where the pointer is, for all charts of a page: a time of their axis. */
interface Cursor {
  at: number | null;
  set: (at: number | null) => void;
}

const CursorContext = createContext<Cursor>({ at: null, set: () => undefined });

export const useCursor = (): Cursor => useContext(CursorContext);

/** Charts inside of it show one cursor. */
export function SharedCursor({ children }: { children: ReactNode }) {
  const [at, set] = useState<number | null>(null);
  const cursor = useMemo(() => ({ at, set }), [at]);
  return <CursorContext value={cursor}>{children}</CursorContext>;
}

const legend = 36; // pixels

/** Lines over time, with marks above the plot and compared windows shaded. */
export function TimeChart(props: TimeChartProps) {
  const { title, lines, height = 168 } = props;
  const hasLegend = lines.length > 1;
  const isEmpty = lines.every((l) => l.values.every((v) => v === null));
  return (
    <Box component="figure" sx={{ m: 0, minWidth: 0, position: "relative" }} data-test="chart" aria-label={title}>
      <Box component="figcaption" sx={{ typography: "h3", ...(hasLegend && !isEmpty ? { position: "absolute", top: 4 } : {}) }}>{title}</Box>
      <Box sx={{ height: height + (hasLegend ? legend : 0) }}>
        {isEmpty ? (
          <Box sx={{ height: 1, display: "grid", placeItems: "center", color: "text.secondary", border: 1, borderStyle: "dashed", borderColor: "divider", borderRadius: 1 }}>No requests in this time</Box>
        ) : (
          <Suspense fallback={null}><Plot {...props} height={height} /></Suspense>
        )}
      </Box>
    </Box>
  );
}
