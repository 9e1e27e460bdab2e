import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { millis } from "./format";
import { type } from "./theme";

/** One row of a time axis. */
export interface AxisRow {
  id: string;
  label: string;
  depth: number;
  startMS: number;
  durationMS: number;
  /** solid: a request, or a workload; striped: an attempt; dotted: a wait. */
  looks: "solid" | "striped" | "dotted";
  bad: boolean;
  result: string;
  title: string;
}

const rowHeight = 24;

/** Rows with a bar each on a time axis. A bar without success is hatched in red, and its row has a mark. */
export function TimeAxis({ rows, ms }: { rows: AxisRow[]; ms: number }) {
  const { palette } = useTheme();
  const whole = Math.max(ms, 0.001);
  const ticks = [0, 0.25, 0.5, 0.75, 1];
  return (
    <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Time axis" data-test="axis">
      <Box component="table" sx={{ width: "100%", minWidth: 480, borderCollapse: "collapse", tableLayout: "fixed", fontSize: type.small, "& td": { p: 0, height: rowHeight, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" } }}>
        <colgroup><col style={{ width: "32%" }} /><col style={{ width: 84 }} /><col style={{ width: 76 }} /><col /></colgroup>
        <thead>
          <tr>
            <td /><td /><td />
            <td>
              <Box sx={{ display: "flex", justifyContent: "space-between", color: "text.secondary", fontSize: type.tiny }}>{ticks.map((t) => <span key={t}>{t === 0 ? "0" : millis(t * whole)}</span>)}</Box>
            </td>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => {
            const colour = r.bad ? palette.error.main : palette.primary.main;
            return (
              <Box component="tr" key={r.id} title={r.title} data-test="bar" sx={{ "&:hover": { bgcolor: "action.hover" } }}>
                <td style={{ paddingLeft: r.depth * 14 }}>{r.label}</td>
                <Box component="td" sx={{ color: r.bad ? "error.main" : "text.secondary", fontWeight: r.bad ? 650 : 400 }}>{r.bad && "▼ "}{r.result}</Box>
                <Box component="td" sx={{ textAlign: "right", pr: "10px !important" }}>{millis(r.durationMS)}</Box>
                <Box component="td" sx={{ backgroundImage: `linear-gradient(90deg, ${palette.divider} 1px, transparent 1px)`, backgroundSize: "25% 100%", borderRight: 1, borderColor: "divider" }}>
                  <Box
                    sx={{
                      ml: `${(100 * Math.min(r.startMS, whole)) / whole}%`, width: `max(3px, ${(100 * Math.min(r.durationMS, whole - Math.min(r.startMS, whole))) / whole}%)`, height: 12, borderRadius: 0.5,
                      ...(r.looks === "dotted"
                        ? { backgroundImage: `radial-gradient(${palette.text.secondary} 1.2px, transparent 1.4px)`, backgroundSize: "6px 6px", backgroundPosition: "0 3px" }
                        : { bgcolor: colour, opacity: r.looks === "striped" ? 0.75 : 1, ...(r.looks === "striped" || r.bad ? { backgroundImage: `repeating-linear-gradient(${r.bad ? 45 : 90}deg, ${palette.roles.gap} 0 2px, transparent 2px 6px)` } : {}) }),
                    }}
                  />
                </Box>
              </Box>
            );
          })}
        </tbody>
      </Box>
    </Box>
  );
}
