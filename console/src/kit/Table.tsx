import { DataGrid, type GridColDef, type GridRowId, type GridRowParams, type GridSortModel, type GridValidRowModel } from "@mui/x-data-grid";
import { type } from "./theme";

export interface Props<R extends GridValidRowModel> {
  /** Name of the table, and of the file when it is exported. */
  name: string;
  columns: GridColDef<R>[];
  rows: R[];
  idOf: (row: R) => string;
  onPick?: (row: R) => void;
  picked?: string | null;
  /** In pixels or as CSS; without it the table is as high as its rows, or fills the page if they are many. */
  height?: number | string;
  empty?: string;
  /** How rows are sorted at first. */
  sort?: GridSortModel;
  /** Rows are as high as their text. */
  isTall?: boolean;
  /** Without the row of filter and export, for a few rows. */
  isPlain?: boolean;
  /** A class of rows that need attention. */
  rowClass?: (row: R) => string;
}

const few = 25; // rows without pages

/** The table of DataTable. */
export default function Table<R extends GridValidRowModel>({ name, columns, rows, idOf, onPick, picked, height, empty, sort, isTall, isPlain, rowClass }: Props<R>) {
  return (
    <DataGrid<R>
      label={name}
      rowHeight={32}
      columnHeaderHeight={32}
      columns={columns}
      rows={rows}
      getRowId={idOf}
      showToolbar={!isPlain}
      disableColumnSelector
      disableColumnMenu
      hideFooter={rows.length <= few}
      hideFooterSelectedRowCount
      autoHeight={!height}
      initialState={{ pagination: { paginationModel: { pageSize: 100 } }, ...(sort ? { sorting: { sortModel: sort } } : {}) }}
      pageSizeOptions={[25, 50, 100]}
      slotProps={{ toolbar: { csvOptions: { fileName: `nightjar-${name.replaceAll(" ", "-")}` }, printOptions: { disableToolbarButton: true }, showQuickFilter: true } }}
      localeText={{ noRowsLabel: empty ?? "No rows" }}
      {...(isTall ? { getRowHeight: () => "auto" as const } : {})}
      {...(rowClass ? { getRowClassName: (p: GridRowParams<R>) => rowClass(p.row) } : {})}
      {...(onPick ? { onRowClick: (p: { row: R }) => onPick(p.row), onCellKeyDown: (p: { row: R }, e: React.KeyboardEvent) => { if (e.key === "Enter") onPick(p.row); } } : { disableRowSelectionOnClick: true })}
      {...(picked === undefined ? {} : { rowSelectionModel: { type: "include" as const, ids: new Set<GridRowId>(picked ? [picked] : []) } })}
      sx={{
        bgcolor: "background.paper", borderColor: "divider", fontSize: type.body, "--DataGrid-overlayHeight": "72px",
        "& .MuiDataGrid-row": { cursor: onPick ? "pointer" : "default" },
        "& .MuiDataGrid-cell": { px: 1, ...(isTall ? { py: 0.75 } : {}) },
        "& .MuiDataGrid-columnHeader": { px: 1 },
        "& .bad": { color: "error.main", fontWeight: 650 },
        "& .warn": { color: "warning.main", fontWeight: 650 },
        "& .strong": { fontWeight: 650 },
        "& .nothing": { color: "text.secondary" },
        "& .attention .MuiDataGrid-cell:first-of-type": { boxShadow: "inset 4px 0 0 currentColor" },
        "& .MuiDataGrid-columnSeparator": { color: "divider", opacity: 0.6 },
        "& .MuiDataGrid-columnHeaderTitle": { fontWeight: 600, color: "text.secondary" },
        "& .MuiDataGrid-toolbar": { minHeight: 40, p: 0.5 },
      }}
    />
  );
}
