import Add from "@mui/icons-material/Add";
import FitIcon from "@mui/icons-material/FitScreenOutlined";
import Remove from "@mui/icons-material/Remove";
import Box from "@mui/material/Box";
import IconButton from "@mui/material/IconButton";
import { useTheme } from "@mui/material/styles";
import { memo, type ReactNode } from "react";
import { type } from "../kit/theme";

/** The smallest scale at which words can be read. */
export const smallest = 0.6;
/** The largest scale that a picture gets by itself. */
export const largest = 1.4;
const most = 2;
const step = 1.2;

interface Props {
  scale: number;
  isFit: boolean;
  /** Chooses a scale; null: as large as fits. */
  onZoom: (scale: number | null) => void;
}

/** What the picture's shapes mean, and its size. */
export const Legend = memo(function Legend({ scale, isFit, onZoom }: Props) {
  const { palette } = useTheme();
  const set = (next: number) => onZoom(Math.min(most, Math.max(smallest / 2, next)));
  const item = (mark: ReactNode, words: string) => <Box component="span" sx={{ display: "inline-flex", alignItems: "center", gap: 0.75, whiteSpace: "nowrap" }}><svg width="26" height="14" aria-hidden>{mark}</svg>{words}</Box>;
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, color: "text.secondary", fontSize: type.small }} data-test="legend">
      {item(<rect y="3" width="26" height="8" fill={palette.roles.flow} />, "requests per second, by width")}
      {item(<><rect y="3" width="26" height="8" fill={palette.roles.flow} /><rect y="7" width="26" height="4" fill="url(#failed)" /></>, "failed or refused")}
      {item(<><rect y="4" width="17" height="7" rx="2" fill={palette.roles.lanes[0]} /><rect x="20" y="1" width="2.5" height="13" fill={palette.text.primary} /></>, "observed share, and the intended one")}
      {item(<rect x="1" y="2" width="24" height="11" rx="2" fill="none" stroke={palette.text.secondary} strokeDasharray="3 2" />, "outside the mesh")}
      <Box sx={{ ml: "auto", display: "flex", alignItems: "center" }}>
        <IconButton size="small" aria-label="Smaller" onClick={() => set(scale / step)}><Remove fontSize="small" /></IconButton>
        <Box component="span" sx={{ minWidth: 40, textAlign: "center" }}>{(100 * scale).toFixed(0)}%</Box>
        <IconButton size="small" aria-label="Larger" onClick={() => set(scale * step)}><Add fontSize="small" /></IconButton>
        <IconButton size="small" aria-label="As large as fits" disabled={isFit} onClick={() => onZoom(null)}><FitIcon fontSize="small" /></IconButton>
      </Box>
    </Box>
  );
});
