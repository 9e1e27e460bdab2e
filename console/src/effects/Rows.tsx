import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { EffectFigure, EffectRow } from "../api/client";
import { millis, percent } from "../parts/format";

const kinds = ["", "caller", "service", "route", "version", "link"];
const few = 12;

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

/** A verdict, with a mark for good and bad ones. */
export function Verdict({ of }: { of: string }) {
  const bad = of === "worse" || of === "slower" || of === "missed";
  const good = of === "better" || of === "faster" || of === "met";
  return (
    <Box component="span" sx={{ color: bad ? "error.main" : good ? "success.main" : "text.secondary", fontWeight: bad || good ? 650 : 450, whiteSpace: "nowrap" }}>
      {bad ? "▼ " : good ? "▲ " : ""}{of}
    </Box>
  );
}

const reasonsOf = (r: EffectRow): string => (r.reasons ?? []).map((x) => `${x.share.verdict === "worse" ? "▼ " : ""}${x.reason} ${x.before} → ${x.after}`).join(", ");

/** Groups of requests on both sides, the worst first. */
export function Rows({ rows, before, after, only }: { rows: EffectRow[]; before: string; after: string; only?: (r: EffectRow) => boolean }) {
  const [kind, setKind] = useState("");
  const [text, setText] = useState("");
  const [all, setAll] = useState(false);
  const chosen = rows.filter((r) => (only ? only(r) : (kind === "" || r.kind === kind) && r.name.includes(text)));
  const shown = all ? chosen : chosen.slice(0, few);
  return (
    <>
      {!only && (
        <Box sx={{ display: "flex", gap: 1, flexWrap: "wrap", alignItems: "center", mb: 1 }}>
          <TextField select size="small" label="Group" value={kind} onChange={(e) => setKind(e.target.value)} sx={{ width: 120 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            {kinds.map((k) => <MenuItem key={k} value={k}>{k || "any"}</MenuItem>)}
          </TextField>
          <TextField size="small" label="Name contains" value={text} onChange={(e) => setText(e.target.value)} sx={{ width: 160 }} slotProps={{ htmlInput: { "data-test": "row-filter" } }} />
          <Box sx={{ color: "text.secondary", fontSize: 12 }}>Each cell: {before} → {after}. Success changes in percentage points with 95% intervals. A verdict needs 30 requests on each side and an interval without 0.</Box>
        </Box>
      )}
      <Box sx={{ overflowX: "auto" }}>
        <Box component="table" data-test="rows" sx={{ borderCollapse: "collapse", fontSize: 12.5, width: "100%", "& th, & td": { px: 0.9, py: 0.45, borderBottom: 1, borderColor: "divider", textAlign: "left", whiteSpace: "nowrap" }, "& .n": { textAlign: "right" }, "& th": { color: "text.secondary", fontWeight: 600 } }}>
          <thead>
            <tr><th>Group</th><th className="n">Requests</th><th className="n" title={`${before} → ${after}`}>Success</th><th className="n">Change (points)</th><th>Verdict</th><th className="n">p95</th><th aria-label="Verdict on p95" /><th>Failures by reason</th><th className="n">First attempt</th><th className="n">Attempts/req</th></tr>
          </thead>
          <tbody>
            {shown.map((r) => (
              <tr key={`${r.kind} ${r.name}`} data-test={`row-${r.kind}-${r.name}`}>
                <td><Box component="span" sx={{ color: "text.secondary" }}>{r.kind === "mesh" ? "all requests" : r.kind}</Box> {r.name}{r.against && <Box component="span" sx={{ color: "text.secondary" }}> new, against {r.against}</Box>}</td>
                <td className="n">{r.before.requests} → {r.after.requests}</td>
                <td className="n">{pair(r.success, percent)}</td>
                <td className="n">{points(r.success)}</td>
                <td><Verdict of={r.verdict} /></td>
                <td className="n">{pair(r.p95MS, ms)}</td>
                <td>{(r.p95MS.verdict === "slower" || r.p95MS.verdict === "faster") && <Verdict of={r.p95MS.verdict} />}</td>
                <td>
                  {reasonsOf(r)}
                  {r.shares && r.shareP !== undefined && r.shareP !== null && r.shareP < 0.01 && (
                    <Box component="span" sx={{ color: "error.main" }}> ▼ shares differ from the weights: {r.shares.map((x) => `${x.target} ${percent(x.observed)} of ${percent(x.intended)}`).join(", ")}</Box>
                  )}
                </td>
                <td className="n">{pair(r.firstAttempt, percent)}</td>
                <td className="n">{pair(r.attemptsPerRequest, factor)}</td>
              </tr>
            ))}
          </tbody>
        </Box>
      </Box>
      {chosen.length === 0 && <Box sx={{ color: "text.secondary", py: 1 }}>No rows match.</Box>}
      {chosen.length > shown.length && <Button size="small" onClick={() => setAll(true)}>Show all {chosen.length} rows</Button>}
    </>
  );
}
