import Box from "@mui/material/Box";
import { Link } from "react-router";
import type { Version } from "../api/client";
import { millis, percent, rate } from "../parts/format";
import { laneFill, useLaneColour } from "../parts/lanes";
import { cardWidth, headHeight, laneHeight, type Node } from "./layout";

const callerNames: Record<string, string> = { nightjar: "calls by hand" };

/** A service, a gateway or a caller, with the versions as lanes. */
export function Card({ node }: { node: Node }) {
  const figures = node.service?.figures ?? node.gateway?.figures;
  const to = node.kind === "service" ? `/services/${node.id}` : node.kind === "gateway" ? `/gateways/${node.id}` : null;
  const troubled = figures?.success !== null && figures?.success !== undefined && figures.success < 0.99;
  const note =
    node.kind === "gateway" ? (node.gateway?.running ? "gateway" : "gateway, no proxy") : node.kind === "caller" ? "caller" : node.service?.outside ? "outside" : node.service?.declared ? "" : "not in the rules";
  return (
    <Box
      {...(to ? { component: Link, to, "aria-label": `${node.id}: ${figures ? `${rate(figures.rps)} requests a second, success ${percent(figures.success)}` : ""}` } : {})}
      data-test={`card-${node.id}`}
      sx={{
        position: "absolute", left: node.x, top: node.y, width: cardWidth, height: node.height, color: "text.primary", textDecoration: "none", overflow: "hidden",
        bgcolor: "background.paper", border: 1, borderStyle: node.service?.outside || node.kind === "caller" ? "dashed" : "solid", borderColor: troubled ? "error.main" : "divider", borderRadius: 1.5,
        "&:hover, &:focus-visible": { borderColor: "primary.main", outline: "none", boxShadow: to ? 2 : 0 },
      }}
    >
      <Box sx={{ height: headHeight, px: 1.25, pt: 0.9 }}>
        <Box sx={{ display: "flex", alignItems: "baseline", gap: 0.75 }}>
          <Box component="span" sx={{ fontWeight: 650, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>{callerNames[node.id] ?? node.id}</Box>
          <Box component="span" sx={{ ml: "auto", fontWeight: 600, whiteSpace: "nowrap" }}>{figures ? `${rate(figures.rps)}/s` : ""}</Box>
        </Box>
        {!figures && <Box sx={{ color: "text.secondary", fontSize: 12 }}>{note}</Box>}
        {figures && (
          <Box sx={{ display: "flex", whiteSpace: "nowrap", justifyContent: "space-between", color: "text.secondary", fontSize: 12 }}>
            <Box component="span" sx={{ color: troubled ? "error.main" : "inherit", fontWeight: troubled ? 650 : 400 }}>
              {note && `${note}: `}
              {figures.requests > 0 ? `${percent(figures.success)} ok` : "no requests"}
            </Box>
            <span>{figures.requests > 0 ? `p95 ${millis(figures.p95MS)}` : ""}</span>
          </Box>
        )}
      </Box>
      {node.service?.versions.map((v, i) => <Lane key={v.name} version={v} index={i} />)}
    </Box>
  );
}

/** One version: the bar is what it got, the mark what the rules intend. */
function Lane({ version, index }: { version: Version; index: number }) {
  const colour = useLaneColour()(index);
  const intended = version.intended;
  return (
    <Box sx={{ height: laneHeight, px: 1.25 }} data-test="lane">
      <Box sx={{ display: "flex", justifyContent: "space-between", fontSize: 11.5, lineHeight: "17px" }}>
        <span>
          {version.name}
          {version.instances.length !== 1 && <Box component="span" sx={{ color: version.instances.length ? "text.secondary" : "error.main" }}> ×{version.instances.length}</Box>}
        </span>
        <Box component="span" sx={{ color: "text.secondary" }}>
          <Box component="span" sx={{ color: "text.primary", fontWeight: 600 }}>{percent(version.observed)}</Box>
          {intended !== null && ` of ${percent(intended)}`}
        </Box>
      </Box>
      <Box sx={{ position: "relative", height: 9, bgcolor: "action.hover", borderRadius: 0.5 }}>
        <Box sx={{ height: "100%", width: `${100 * (version.observed ?? 0)}%`, borderRadius: 0.5, transition: "width .4s", ...laneFill(colour, index) }} />
        {intended !== null && <Box sx={{ position: "absolute", left: `calc(${100 * intended}% - 1px)`, top: -2.5, width: 2.5, height: 14, bgcolor: "text.primary" }} />}
      </Box>
    </Box>
  );
}
