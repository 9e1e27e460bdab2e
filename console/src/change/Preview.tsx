import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import type { EffectRow, ForecastRequest } from "../api/client";
import { Rows } from "../effects/Rows";
import { useForecast } from "../forecast/useForecast";
import { type } from "../kit/theme";

interface Props {
  /** The request for the forecast. When it changes, a forecast for another one is not shown any more. */
  body: ForecastRequest;
  /** Rows to show; without it those that change. */
  only?: (r: EffectRow) => boolean;
  disabled?: boolean;
}

const enough = 8;

const isChanged = (r: EffectRow): boolean =>
  r.kind === "mesh" || r.verdict === "worse" || r.verdict === "better" || [r.p50MS.verdict, r.p95MS.verdict].some((v) => v === "slower" || v === "faster");

/** A button that forecasts an unpublished change, with the result in a few rows. */
export function Preview({ body, only, disabled }: Props) {
  const { value: newest, of, error, busy, start, clear } = useForecast();
  const value = of === JSON.stringify(body) ? newest : null;
  const rows = value ? value.rows.filter(only ?? isChanged).slice(0, enough) : [];
  return (
    <Box sx={{ mt: 1 }} data-test="preview">
      <Button variant="outlined" disabled={busy || disabled} onClick={() => start(body)} data-test="preview-go">{busy ? "Computing" : "Forecast"}</Button>
      {value && <Button onClick={clear}>Hide</Button>}
      {newest && !value && !busy && <Box component="span" sx={{ ml: 1, color: "text.secondary" }} data-test="preview-old">The change is another one since the last forecast.</Box>}
      {error && <Alert severity="error" sx={{ mt: 1 }}>{error}</Alert>}
      {value && (
        <Box sx={{ mt: 1, p: 1, border: 1, borderColor: "divider", borderStyle: "dashed", borderRadius: 1, opacity: busy ? 0.5 : 1 }} data-test="preview-answer">
          <Box sx={{ fontWeight: 600 }}>
            {value.worse ? `▼ Worse by more than one point: ${value.worse}.` : "Success drops by more than one point for no caller and no service."}
          </Box>
          <Box sx={{ color: "text.secondary", fontSize: type.small }}>Forecast for {value.draft.map((c) => `${c.path}: ${c.before || "–"} → ${c.after || "–"}`).join("; ") || "no change"}. {value.calibration[0]}</Box>
          <Rows rows={rows} before="in force" after="draft" only={() => true} />
        </Box>
      )}
    </Box>
  );
}
