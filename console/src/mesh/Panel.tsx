import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { Fragment } from "react";
import { Link } from "wouter";
import type { Figures, Mesh } from "../api/client";
import type { Change } from "../kit/address";
import { Drawer } from "../kit/Drawer";
import { FigureTable } from "../kit/FigureTable";
import { percent, rate, transports } from "../kit/format";
import { rangeSearch, useRange } from "../kit/range";
import { RecentFailures } from "../requests/RecentFailures";
import { groupOf } from "./flow";
import { PanelAtSite } from "./PanelAtSite";

interface Props {
  mesh: Mesh;
  /** Id of a card, or the ids of two with ~ between them. */
  chosen: string;
  by: string;
  opened: string;
  change: (parts: Change) => void;
}

const plain = { color: "inherit" };

/** Details of the picked card or ribbon. */
export function Panel({ mesh, chosen, by, opened, change }: Props) {
  if (chosen.includes("@")) return <PanelAtSite mesh={mesh} chosen={chosen} change={change} />;
  return <WholePanel mesh={mesh} chosen={chosen} by={by} opened={opened} change={change} />;
}

function WholePanel({ mesh, chosen, by, opened, change }: Props) {
  const [from = "", to] = chosen.split("~");
  const range = useRange();
  const search = rangeSearch(range);
  const service = mesh.services.find((s) => s.name === chosen);
  const gateway = mesh.gateways.find((g) => g.name === chosen);
  const isIn = (name: string, card: string) => name === card || mesh.services.some((s) => s.name === name && groupOf(s, by) === card);
  const members = to === undefined && !service && !gateway ? mesh.services.filter((s) => groupOf(s, by) === chosen) : [];
  const exact = to === undefined ? undefined : mesh.links.find((l) => l.from === from && l.to === to);
  const between = to === undefined || exact ? [] : mesh.links.filter((l) => isIn(l.from, from) && isIn(l.to, to));
  const query: { from?: string; to?: string } = to !== undefined ? { from, to } : gateway ? { from: chosen } : { to: chosen };
  const figures: Figures | undefined = exact?.figures ?? service?.figures ?? gateway?.figures;
  const isGroup = members.length > 0 || between.length > 0;
  const close = () => change({ pick: null });
  return (
    <Drawer title={chosen.replace("~", " → ")} onClose={close} test={to !== undefined ? "link" : "panel"}>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5, mb: 1 }}>
        {exact && <Box sx={{ color: "text.secondary" }}>{transports[exact.transport] ?? exact.transport}</Box>}
        {service && <Link to={`/services/${chosen}${search}`} data-test="open" style={plain}>Routes, guards, instances</Link>}
        {gateway && <Link to={`/gateways/${chosen}${search}`} data-test="open" style={plain}>Routes</Link>}
        {!range.at && !isGroup && <Link to={`/requests?${new URLSearchParams({ ...query, ...(range.site ? { site: range.site } : {}) } as Record<string, string>).toString()}`} style={plain}>Live requests</Link>}
        {service && <Link to={`/traces?service=${chosen}`} style={plain}>Traces</Link>}
      </Box>
      {members.length > 0 && (
        <>
          <Button variant="outlined" data-test="ungroup" onClick={() => change({ open: [opened, chosen].filter(Boolean).join("|"), pick: null })}>Show its services as cards</Button>
          <Lines lines={members.map((s) => ({ key: s.name, figures: s.figures, names: [s.name] }))} />
        </>
      )}
      {between.length > 0 && <Lines lines={between.map((l) => ({ key: `${l.from}~${l.to}`, figures: l.figures, names: [l.from, l.to] }))} />}
      {figures ? <FigureTable figures={figures} /> : !isGroup && <Box sx={{ color: "text.secondary" }}>No requests in this time.</Box>}
      {!isGroup && (
        <>
          <Box component="h3" sx={{ typography: "h3", m: 0, mt: 2, mb: 0.5 }}>{range.at ? "Failures until then" : "Recent failures"}</Box>
          <RecentFailures query={{ ...query, ...(range.at ? { before: range.at } : {}), ...(range.site ? { site: range.site } : {}) }} />
        </>
      )}
    </Drawer>
  );
}

/** The services of a group, or the links between two groups, with their figures. */
function Lines({ lines }: { lines: { key: string; names: string[]; figures: Figures }[] }) {
  return (
    <Box component="ul" sx={{ pl: 2.5, my: 1 }}>
      {lines.map((l) => (
        <li key={l.key}>
          {l.names.map((name, i) => <Fragment key={name}>{i > 0 && " → "}<Link to={`/services/${name}`} style={plain}>{name}</Link></Fragment>)} {rate(l.figures.rps)}/s, {percent(l.figures.success)}
        </li>
      ))}
    </Box>
  );
}
