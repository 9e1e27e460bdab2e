import Box from "@mui/material/Box";
import type { GridColDef, GridValidRowModel } from "@mui/x-data-grid";
import { lazy, Suspense, type ReactNode } from "react";
import type { Props } from "./Table";

/** The height of a table that fills a page. */
export const tall = "max(420px, calc(100vh - 250px))";

/** Up to this number of rows a table is as high as they are; with more it scrolls, and draws only those that are seen. */
const few = 25;

// The table component is large: it is loaded after the page around it.
const Table = lazy(() => import("./Table")) as unknown as <R extends GridValidRowModel>(props: Props<R>) => ReactNode;

/** A list of things as a table: sorted, filtered, walked by keys, and saved as CSV. */
export function DataTable<R extends GridValidRowModel>(props: Props<R>) {
  const { name } = props;
  const height = props.height ?? (props.rows.length > few ? tall : undefined);
  return (
    <Box sx={{ ...(height ? { height } : { minHeight: 120 }), minWidth: 0 }} data-test={`table-${name}`}>
      <Suspense fallback={<Box sx={{ color: "text.secondary" }}>Loading the table</Box>}>
        <Table {...props} {...(height ? { height } : {})} />
      </Suspense>
    </Box>
  );
}

export type Column<R extends GridValidRowModel> = GridColDef<R>;

interface FigureColumn<R> {
  name: string;
  width?: number;
  /** null: nothing was measured. */
  of: (row: R) => number | null | undefined;
  write: (value: number) => string;
  /** Tells whether a value is an exception. */
  isBad?: (row: R) => boolean;
  about?: string;
}

/** A column of numbers: to the right, a grey dash where nothing was measured, colour for exceptions. */
export function figure<R extends GridValidRowModel>(field: string, c: FigureColumn<R>): Column<R> {
  return {
    field, headerName: c.name, width: c.width ?? 92, type: "number", valueGetter: (_, row) => c.of(row) ?? null,
    valueFormatter: (v: number | null) => (v === null ? "–" : c.write(v)),
    cellClassName: ({ row }) => (c.of(row) == null ? "nothing" : c.isBad?.(row) ? "bad" : ""),
    ...(c.about ? { description: c.about } : {}),
  };
}
