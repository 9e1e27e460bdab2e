import Box from "@mui/material/Box";
import Tooltip from "@mui/material/Tooltip";
import type { Mesh } from "../api/client";
import { timeOfDay } from "../parts/format";

/** The newest revision, and how many proxies have it in force. */
export function RevisionLine({ mesh }: { mesh: Mesh }) {
  const r = mesh.revision;
  const behind = r.behind.length > 0;
  const who = behind ? `Behind: ${r.behind.join(", ")}` : "Every connected proxy has it in force";
  return (
    <Box sx={{ display: "flex", justifyContent: { xs: "flex-start", md: "flex-end" }, alignItems: "baseline", gap: 1, minWidth: 0, fontSize: 13 }} data-test="revision">
      {r.number === 0 ? (
        <span>No rules published: requests are balanced over all instances</span>
      ) : (
        <>
          <Box component="span" title={r.at} sx={{ color: "text.secondary", overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", minWidth: 0 }}>
            {r.kind} by {r.author}, {timeOfDay(r.at)}
            {r.message ? `: ${r.message}` : ""}
          </Box>
          <Box component="strong" sx={{ whiteSpace: "nowrap" }}>Revision {r.number}</Box>
        </>
      )}
      <Tooltip title={who}>
        <Box component="span" tabIndex={0} sx={{ whiteSpace: "nowrap", color: behind ? "warning.main" : "success.main", fontWeight: 600 }}>
          in force in {r.acknowledged} of {r.connected} proxies
        </Box>
      </Tooltip>
    </Box>
  );
}
