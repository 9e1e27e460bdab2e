import Box from "@mui/material/Box";
import type { GridValidRowModel } from "@mui/x-data-grid";
import { lazy, Suspense, type ReactNode } from "react";
import type { Props } from "./Table";

// The table component is large: it is loaded after the page around it.
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
