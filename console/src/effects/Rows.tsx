import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { EffectFigure, EffectRow } from "../api/client";
import { DataTable, type Column } from "../kit/DataTable";
import { millis, percent } from "../kit/format";
import { type } from "../kit/theme";
import { Verdict } from "../kit/Verdict";

const kinds = ["", "caller", "service", "route", "version", "link"];

/** A difference of shares in percentage points, with its interval. */
export function points(f: EffectFigure): string {
  if (f.change === null) return "–";
  const signed = (v: number) => `${v >= 0 ? "+" : "−"}${Math.abs(100 * v).toFixed(1)}`;
  return f.low === null || f.high === null ? signed(f.change) : `${signed(f.change)} (${signed(f.low)} to ${signed(f.high)})`;
}

const pair = (f: EffectFigure, write: (v: number | null) => string): string => {
  const [b, a] = [write(f.before), write(f.after)];
  return a === b ? a : `${b} → ${a}`;
};
const ms = (v: number | null): string => (v === null ? "–" : millis(v));
const factor = (v: number | null): string => (v === null ? "–" : v.toFixed(2));

const reasonsOf = (r: EffectRow): string => {
  const shares = r.shares && r.shareP !== undefined && r.shareP !== null && r.shareP < 0.01 ? [`▼ shares differ from the weights: ${r.shares.map((x) => `${x.target} ${percent(x.observed)} of ${percent(x.intended)}`).join(", ")}`] : [];
  return [...(r.reasons ?? []).map((x) => `${x.share.verdict === "worse" ? "▼ " : ""}${x.reason} ${x.before} → ${x.after}`), ...shares].join(", ");
};

const groupName = (r: EffectRow): string => (r.kind === "mesh" ? "all requests" : `${r.kind} ${r.name}`) + (r.against ? ` new, against ${r.against}` : "");

const column = (field: string, headerName: string, width: number, of: (r: EffectRow) => string, by?: (r: EffectRow) => number): Column<EffectRow> => ({
  field, headerName, width, align: "right", headerAlign: "right", valueGetter: (_, r) => of(r),
  ...(by ? { sortComparator: (_a, _b, a, b) => by(a.api.getRow(a.id) as EffectRow) - by(b.api.getRow(b.id) as EffectRow) } : {}),
});

const columns: Column<EffectRow>[] = [
  { field: "group", headerName: "Group", flex: 1, minWidth: 190, valueGetter: (_, r) => groupName(r), renderCell: ({ row }) => <span data-test={`row-${row.kind}-${row.name}`}>{groupName(row)}</span> },
  { field: "verdict", headerName: "Verdict", width: 126, renderCell: ({ row }) => <Verdict of={row.verdict} /> },
  column("change", "Change (points)", 172, (r) => points(r.success), (r) => r.success.change ?? 0),
  column("success", "Success", 122, (r) => pair(r.success, percent), (r) => r.success.after ?? 2),
  column("requests", "Requests", 134, (r) => `${r.before.requests} → ${r.after.requests}`, (r) => r.after.requests),
  column("p95", "p95", 142, (r) => pair(r.p95MS, ms), (r) => r.p95MS.after ?? 0),
  { field: "slower", headerName: "Latency", width: 84, valueGetter: (_, r) => r.p95MS.verdict, renderCell: ({ row }) => (row.p95MS.verdict === "slower" || row.p95MS.verdict === "faster") && <Verdict of={row.p95MS.verdict} /> },
  { field: "reasons", headerName: "Failures by reason", flex: 1, minWidth: 180, valueGetter: (_, r) => reasonsOf(r), cellClassName: ({ row }) => (reasonsOf(row).includes("▼") ? "bad" : "") },
  column("firstAttempt", "First attempt", 122, (r) => pair(r.firstAttempt, percent)),
  column("attempts", "Attempts/req", 108, (r) => pair(r.attemptsPerRequest, factor)),
];

/** Groups of requests on both sides, the worst first. */
export function Rows({ rows, before, after, only }: { rows: EffectRow[]; before: string; after: string; only?: (r: EffectRow) => boolean }) {
  const [kind, setKind] = useState("");
  const [text, setText] = useState("");
  const chosen = rows.filter((r) => (only ? only(r) : (kind === "" || r.kind === kind) && r.name.includes(text)));
  return (
    <>
      {!only && (
        <Box sx={{ display: "flex", gap: 1, flexWrap: "wrap", alignItems: "center", mb: 1 }}>
          <TextField select label="Group" value={kind} onChange={(e) => setKind(e.target.value)} sx={{ width: 120 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            {kinds.map((k) => <MenuItem key={k} value={k}>{k || "any"}</MenuItem>)}
          </TextField>
          <TextField label="Name contains" value={text} onChange={(e) => setText(e.target.value)} sx={{ width: 160 }} slotProps={{ htmlInput: { "data-test": "row-filter" } }} />
          <Box sx={{ color: "text.secondary", fontSize: type.small, flex: 1, minWidth: 260 }}>Each cell: {before} → {after}. Success changes in percentage points with 95% intervals. A verdict needs 30 requests on each side and an interval without 0.</Box>
        </Box>
      )}
      <div data-test="rows">
        <DataTable name={`${before} and ${after}`} columns={columns} rows={chosen} idOf={(r) => `${r.kind} ${r.name}`} empty="No rows match" isPlain={only !== undefined} isTall />
      </div>
    </>
  );
}
