import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { Link } from "react-router";
import type { Figures, Mesh, Query } from "../api/client";
import { percent, rate, transports } from "../parts/format";
import { groupOf } from "./flow";
import { FigureTable } from "../parts/FigureTable";
import { RecentFailures } from "../parts/RecentFailures";

interface Props {
  mesh: Mesh;
  /** Id of a card, or the ids of two with ~ between them. */
  chosen: string;
  at: number;
  by: string;
  opened: string;
  set: (change: Record<string, string | null>) => void;
}

/** Details of the picked card or ribbon. */
export function Panel({ mesh, chosen, at, by, opened, set }: Props) {
  const [from = "", to] = chosen.split("~");
  const service = mesh.services.find((s) => s.name === chosen);
  const gateway = mesh.gateways.find((g) => g.name === chosen);
  const members = to === undefined && !service && !gateway ? mesh.services.filter((s) => groupOf(s, by) === chosen) : [];
  const link = to === undefined ? undefined : mesh.links.find((l) => l.from === from && l.to === to);
  const query: Query = to !== undefined ? { from, to } : gateway ? { from: chosen } : { to: chosen };
  const figures: Figures | undefined = link?.figures ?? service?.figures ?? gateway?.figures;
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mt: 1, position: "relative", display: "grid", gap: 3, gridTemplateColumns: { xs: "1fr", md: "minmax(380px, 1fr) 1.3fr" } }} data-test={to !== undefined ? "link" : "panel"}>
      <Button size="small" sx={{ position: "absolute", right: 8, top: 6, zIndex: 1 }} onClick={() => set({ pick: null })}>Close</Button>
      <div>
        <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", gap: 1.5, mb: 0.75 }}>
          <Box component="h2" sx={{ m: 0, fontSize: 15, fontWeight: 650 }}>{chosen.replace("~", " → ")}</Box>
          {link && <Box sx={{ color: "text.secondary" }}>{transports[link.transport] ?? link.transport}</Box>}
          {service && <Link to={`/services/${chosen}`} data-test="open" style={{ color: "inherit" }}>Routes, guards, instances</Link>}
          {gateway && <Link to={`/gateways/${chosen}`} data-test="open" style={{ color: "inherit" }}>Routes</Link>}
          {!at && (service || gateway || link) && <Link to={`/requests?${new URLSearchParams(query as Record<string, string>).toString()}`} style={{ color: "inherit" }}>Live requests</Link>}
          {service && <Link to={`/traces?service=${chosen}`} style={{ color: "inherit" }}>Traces</Link>}
        </Box>
        {members.length > 0 && (
          <>
            <Button size="small" variant="outlined" data-test="ungroup" onClick={() => set({ open: [opened, chosen].filter(Boolean).join("|"), pick: null })}>Show its services as cards</Button>
            <Box component="ul" sx={{ columns: 2, pl: 2.5, my: 1 }}>
              {members.map((s) => <li key={s.name}><Link to={`/services/${s.name}`} style={{ color: "inherit" }}>{s.name}</Link> {rate(s.figures.rps)}/s, {percent(s.figures.success)}</li>)}
            </Box>
          </>
        )}
        {figures ? <FigureTable figures={figures} /> : members.length === 0 && <Box sx={{ color: "text.secondary" }}>No requests in this window.</Box>}
      </div>
      {(service || gateway || link || to !== undefined) && (
        <div>
          <Box component="h3" sx={{ m: 0, mb: 0.5, fontSize: 13, fontWeight: 650 }}>{at ? "Failures until then" : "Recent failures"}</Box>
          <RecentFailures query={at ? { ...query, before: at } : query} />
        </div>
      )}
    </Paper>
  );
}
