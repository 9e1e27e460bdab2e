import ErrorIcon from "@mui/icons-material/ErrorOutlined";
import WarningIcon from "@mui/icons-material/WarningAmberOutlined";
import Box from "@mui/material/Box";
import ButtonBase from "@mui/material/ButtonBase";
import type { Finding } from "../api/client";

/** Mistakes and warnings, with links to their places. */
export function Findings({ findings, onGo }: { findings: Finding[]; onGo: (f: Finding) => void }) {
  return (
    <Box component="ul" sx={{ m: 0, p: 0, listStyle: "none" }}>
      {findings.map((f, i) => (
        <Box component="li" key={i} data-test={`finding-${f.code}`}>
          <ButtonBase onClick={() => onGo(f)} sx={{ font: "inherit", display: "flex", flexWrap: "wrap", columnGap: 1, width: "100%", textAlign: "left", py: 0.4, px: 0.5, alignItems: "flex-start", justifyContent: "flex-start", borderRadius: 1, "&:hover, &:focus-visible": { bgcolor: "action.hover" } }}>
            {f.severity === "mistake" ? <ErrorIcon color="error" sx={{ fontSize: 18 }} titleAccess="mistake" /> : <WarningIcon color="warning" sx={{ fontSize: 18 }} titleAccess="warning" />}
            <Box sx={{ color: "text.secondary", overflowWrap: "anywhere" }}>{f.at.file}:{f.at.line}</Box>
            <Box sx={{ flex: "1 1 240px", minWidth: 0, overflowWrap: "anywhere" }}>
              <strong>{f.code}</strong> {f.message}
              {f.expected && <Box component="span" sx={{ color: "text.secondary" }}>; expected {f.expected}</Box>}
              {f.also?.file && <Box component="span" sx={{ color: "text.secondary" }}>; see also {f.also.file}:{f.also.line}</Box>}
            </Box>
          </ButtonBase>
        </Box>
      ))}
    </Box>
  );
}
