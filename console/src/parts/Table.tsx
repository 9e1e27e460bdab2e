import { DataGrid, type GridColDef, type GridRowId, type GridValidRowModel } from "@mui/x-data-grid";

export interface Props<R extends GridValidRowModel> {
  /** Name of the table, and of the file when it is exported. */
  name: string;
  columns: GridColDef<R>[];
  rows: R[];
  idOf: (row: R) => string;
  onPick?: (row: R) => void;
  picked?: string | null;
  /** In pixels; without it the table is as high as its rows. */
  height?: number;
  empty?: string;
}

/** The table of Grid. */
export default function Table<R extends GridValidRowModel>({ name, columns, rows, idOf, onPick, picked, height, empty }: Props<R>) {
  const few = rows.length <= 25;
  return (
      <DataGrid<R>
        label={name}
        density="compact"
        columns={columns}
        rows={rows}
        getRowId={idOf}
        showToolbar
        disableColumnSelector
        disableColumnMenu
        hideFooter={few}
        hideFooterSelectedRowCount
        autoHeight={!height}
        initialState={{ pagination: { paginationModel: { pageSize: 100 } } }}
        pageSizeOptions={[25, 50, 100]}
        slotProps={{ toolbar: { csvOptions: { fileName: `nightjar-${name.replaceAll(" ", "-")}` }, printOptions: { disableToolbarButton: true }, showQuickFilter: true } }}
        localeText={{ noRowsLabel: empty ?? "No rows" }}
        {...(onPick ? { onRowClick: (p: { row: R }) => onPick(p.row), onCellKeyDown: (p: { row: R }, e: React.KeyboardEvent) => { if (e.key === "Enter") onPick(p.row); } } : { disableRowSelectionOnClick: true })}
        {...(picked === undefined ? {} : { rowSelectionModel: { type: "include" as const, ids: new Set<GridRowId>(picked ? [picked] : []) } })}
        sx={{
          bgcolor: "background.paper", borderColor: "divider", fontSize: 12.5, "--DataGrid-overlayHeight": "80px",
          "& .MuiDataGrid-row": { cursor: onPick ? "pointer" : "default" },
          "& .bad": { color: "error.main", fontWeight: 650 },
          "& .MuiDataGrid-columnHeaderTitle": { fontWeight: 600 },
        }}
      />
  );
}
