import Box from "@mui/material/Box";
import type { GridColDef, GridValidRowModel } from "@mui/x-data-grid";
import { lazy, Suspense, type ReactNode } from "react";

export interface Props<R extends GridValidRowModel> {
  /** What the rows are; also the name of the file when they are exported. */
  name: string;
  columns: GridColDef<R>[];
  rows: R[];
  idOf: (row: R) => string;
  onPick?: (row: R) => void;
  picked?: string | null;
  /** Of the page; without it the table is as high as its rows. */
  height?: number;
  empty?: string;
}

// The table is large: the page around it is there before it.
const Table = lazy(() => import("./Table")) as unknown as <R extends GridValidRowModel>(props: Props<R>) => ReactNode;

/** A table that can be sorted, filtered and saved as CSV. */
export function Grid<R extends GridValidRowModel>(props: Props<R>) {
  const { name, height } = props;
  return (
    <Box sx={{ ...(height ? { height } : { minHeight: 140 }), minWidth: 0 }} data-test={`grid-${name}`}>
      <Suspense fallback={<Box sx={{ color: "text.secondary" }}>Loading the table</Box>}>
        <Table {...props} />
      </Suspense>
    </Box>
  );
}
