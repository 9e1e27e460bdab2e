import Box from "@mui/material/Box";
import { Link } from "wouter";
import { useMesh } from "../api/live";
import { moment } from "../kit/format";

/** The revision in force, and who lacks it. */
export function RevisionState() {
  const r = useMesh((mesh) => mesh?.revision ?? null);
  if (!r) return null;
  const isBehind = r.behind.length > 0;
  const about = r.number === 0 ? "" : `${r.kind} by ${r.author}, ${moment(r.at)}${r.message ? `: ${r.message}` : ""}. `;
  const who = isBehind ? `Without it: ${r.behind.join(", ")}.` : "Every connected proxy has it in force.";
  return (
    <Box sx={{ display: "flex", alignItems: "baseline", gap: 1, minWidth: 0, whiteSpace: "nowrap", overflow: "hidden" }} data-test="revision">
      {r.number === 0 ? (
        <Box component="span" sx={{ overflow: "hidden", textOverflow: "ellipsis" }}>No rules published</Box>
      ) : (
        <Box component={Link} to={`/effects?revision=${r.number}`} title={about} sx={{ color: "text.primary", fontWeight: 650 }}>Revision {r.number}</Box>
      )}
      {r.number > 0 && (
        <Box component={Link} to={isBehind ? "/fleet?show=attention" : "/fleet"} title={who} sx={{ color: isBehind ? "warning.main" : "success.main", fontWeight: 600, textDecoration: "none", display: { xs: "none", sm: "inline" } }}>
          in force in {r.acknowledged} of {r.connected} proxies
        </Box>
      )}
    </Box>
  );
}
