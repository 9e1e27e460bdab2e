import Box from "@mui/material/Box";
import { Link } from "wouter";
import type { Mesh } from "../api/client";
import type { Change } from "../kit/address";
import { Drawer } from "../kit/Drawer";
import { percent, rate } from "../kit/format";
import { rangeSearch, useRange } from "../kit/range";
import { RecentFailures } from "../requests/RecentFailures";
import { byVersion, flowBySite, placeOfCard } from "./bySite";
import { successOf } from "./flow";

interface Props {
  mesh: Mesh;
  /** Id of a card, or the ids of two with ~ between them. */
  chosen: string;
  change: (parts: Change) => void;
}

const plain = { color: "inherit" };

/** A card or ribbon of the picture with bands: a service at one site, or requests between two. */
export function PanelAtSite({ mesh, chosen, change }: Props) {
  const range = useRange();
  const flow = flowBySite(mesh, new Set());
  const [first = "", second] = chosen.split("~");
  const [from, to] = second === undefined ? [undefined, placeOfCard(first)] : [placeOfCard(first), placeOfCard(second)];
  const link = flow.links.find((l) => l.id === chosen);
  const node = flow.nodes.find((n) => n.id === chosen);
  const sums = link?.sums ?? node?.sums;
  const parts = link?.parts ?? flow.links.filter((l) => l.to === chosen).flatMap((l) => l.parts);
  const site = to.site || from?.site || "";
  const called = (place: { name: string; site: string }) => (place.site ? `${place.name} at ${place.site}` : place.name);
  const query = from ? { from: from.name, to: to.name, site } : node?.kind === "service" ? { to: to.name, site } : { from: to.name, site };
  const search = rangeSearch({ ...range, site });
  return (
    <Drawer title={from ? `${called(from)} → ${called(to)}` : called(to)} onClose={() => change({ pick: null })} test={from ? "link" : "panel"}>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5, mb: 1 }}>
        {node?.kind === "service" && <Link to={`/services/${to.name}${search}`} data-test="open" style={plain}>Routes, guards, instances</Link>}
        {node?.kind === "gateway" && <Link to={`/gateways/${to.name}${search}`} data-test="open" style={plain}>Routes</Link>}
        {!range.at && <Link to={`/requests?${new URLSearchParams(query as Record<string, string>).toString()}`} style={plain}>Live requests</Link>}
        {node?.kind === "service" && <Link to={`/traces?${new URLSearchParams({ service: to.name, site }).toString()}`} style={plain}>Traces</Link>}
      </Box>
      {sums && sums.requests > 0 ? (
        <Box data-test="sides">
          <b>{rate(sums.rps)}/s</b>, success <b>{percent(successOf(sums))}</b>: {sums.requests} requests, {sums.bad} failed or refused.
          {byVersion(parts).map((p) => <Box key={p.version} sx={{ color: "text.secondary" }}>{p.version}: {p.requests} requests, {p.bad} failed or refused</Box>)}
        </Box>
      ) : <Box sx={{ color: "text.secondary" }}>No requests in this time.</Box>}
      <Box component="h3" sx={{ typography: "h3", m: 0, mt: 2, mb: 0.5 }}>{range.at ? "Failures until then" : "Recent failures"}{site && `, made or answered at ${site}`}</Box>
      <RecentFailures query={{ ...query, ...(range.at ? { before: range.at } : {}) }} />
    </Drawer>
  );
}
