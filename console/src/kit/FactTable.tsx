import Box from "@mui/material/Box";
import type { ReactNode } from "react";
import { type } from "./theme";

interface Props {
  /** Column names; an empty one is of a column that needs none. */
  head: string[];
  rows: { key: string; cells: ReactNode[] }[];
  /** From which column on figures stand to the right. */
  figuresFrom?: number;
  isWide?: boolean;
}

/** A few fixed rows that are compared. Lists of things are in a DataTable. */
export function FactTable({ head, rows, figuresFrom = Infinity, isWide = false }: Props) {
  const side = (i: number) => (i >= figuresFrom ? "right" : "left");
  return (
    <Box tabIndex={0} role="region" aria-label={head.filter(Boolean).join(", ")} sx={{ overflowX: "auto", "&:focus-visible": { outline: 2, outlineStyle: "solid", outlineColor: "primary.main" } }}>
      <Box
        component="table"
        sx={{ borderCollapse: "collapse", width: isWide ? "100%" : "auto", "& td, & th": { px: 1, py: 0.5, height: 28, verticalAlign: "top", borderBottom: 1, borderColor: "divider", fontWeight: 400 }, "& thead th": { color: "text.secondary", fontSize: type.small, fontWeight: 600, whiteSpace: "nowrap" }, "& tbody th": { fontWeight: 600 } }}
      >
        <thead><tr>{head.map((h, i) => (h ? <th key={h} scope="col" style={{ textAlign: side(i) }}>{h}</th> : <td key={i} />))}</tr></thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.key}>{r.cells.map((c, i) => (i === 0 ? <th key={i} scope="row" style={{ textAlign: "left" }}>{c}</th> : <td key={i} style={{ textAlign: side(i) }}>{c}</td>))}</tr>
          ))}
        </tbody>
      </Box>
    </Box>
  );
}
