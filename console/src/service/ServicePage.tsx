import Box from "@mui/material/Box";
import Link from "@mui/material/Link";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableContainer from "@mui/material/TableContainer";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { Fragment } from "react";
import { Link as RouterLink, useParams } from "react-router";
import type { Figures, Mesh, Service } from "../api/client";
import { useLive } from "../api/live";
import { FiguresLine } from "../parts/FiguresLine";
import { millis, percent, rate } from "../parts/format";
import { laneFill, useLaneColour } from "../parts/lanes";
import { Activity } from "./Activity";
import { DrillForm } from "./Drills";
import { Guards } from "./Guards";
import { Rung } from "./Rung";

/** One service: its routes as a ladder in match order, its versions and instances. */
export function ServicePage() {
  const { name = "" } = useParams();
  const { mesh } = useLive();
  if (!mesh) return <Typography sx={{ color: "text.secondary" }}>Waiting for the service</Typography>;
  const service = mesh.services.find((s) => s.name === name);
  if (!service) return <Unknown name={name} kind="service" known={mesh.services.map((s) => s.name)} to="/services/" />;
  const versions = service.versions.map((v) => v.name);
  return (
    <>
      <Head name={name} note={service.owner ? `of ${service.owner}` : service.declared ? "" : "not in the rules"} figures={service.figures} mesh={mesh} />
      <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
        Routes, in match order
      </Typography>
      {service.routes.length === 0 ? (
        <Typography sx={{ color: "text.secondary" }} data-test="plain">
          No routes: plain balancing over all instances of all versions.
        </Typography>
      ) : (
        <Box component="ol" sx={{ p: 0, m: 0 }}>
          {service.routes.map((r, i) => (
            <Rung key={r.name} route={r} number={i + 1} service={name} versions={versions} revision={mesh.revision.number} />
          ))}
        </Box>
      )}
      <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
        Versions and instances
      </Typography>
      <Versions service={service} />
      <Calls mesh={mesh} name={name} />
      <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
        Guards, in every caller
      </Typography>
      <Guards callers={service.callers} />
      <Box sx={{ mt: 1.5 }}>
        <DrillForm key={name} service={service} />
      </Box>
      <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
        What happened
      </Typography>
      <Activity service={name} />
    </>
  );
}

/** One gateway: its routes, which are changed in files. */
export function GatewayPage() {
  const { name = "" } = useParams();
  const { mesh } = useLive();
  if (!mesh) return <Typography sx={{ color: "text.secondary" }}>Waiting for the service</Typography>;
  const gateway = mesh.gateways.find((g) => g.name === name);
  if (!gateway) return <Unknown name={name} kind="gateway" known={mesh.gateways.map((g) => g.name)} to="/gateways/" />;
  return (
    <>
      <Head name={name} note={`gateway at ${gateway.listen} for ${gateway.hosts.join(", ")}${gateway.running ? "" : "; no proxy serves it"}`} figures={gateway.figures} mesh={mesh} />
      <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
        Routes, in match order
      </Typography>
      <Box component="ol" sx={{ p: 0, m: 0 }}>
        {gateway.routes.map((r, i) => (
          <Rung key={r.name} route={r} number={i + 1} versions={r.send.map((t) => t.target)} revision={mesh.revision.number} />
        ))}
      </Box>
      <Calls mesh={mesh} name={name} />
      {gateway.callers.length > 0 && (
        <>
          <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
            Limits, in every proxy
          </Typography>
          <Guards callers={gateway.callers} />
        </>
      )}
    </>
  );
}

function Head({ name, note, figures, mesh }: { name: string; note: string; figures: Figures; mesh: Mesh }) {
  const r = mesh.revision;
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 1.5, mb: 0.5 }}>
        <Typography variant="h1">{name}</Typography>
        <Box sx={{ color: "text.secondary" }}>{note}</Box>
        <Box sx={{ ml: "auto", color: "text.secondary" }} data-test="who-has-it">
          {r.number === 0 ? "no rules in force" : `revision ${r.number} in force in ${r.inForce} of ${r.connected} proxies`}
          {r.behind.length > 0 && `; behind: ${r.behind.join(", ")}`}
        </Box>
      </Box>
      <FiguresLine figures={figures} />
    </>
  );
}

function Unknown({ name, kind, known, to }: { name: string; kind: string; known: string[]; to: string }) {
  return (
    <>
      <Typography variant="h1">There is no {kind} {name} now</Typography>
      <Typography sx={{ mt: 1 }}>
        {known.length ? "These are there: " : "None is there."}
        {known.map((k, i) => (
          <Fragment key={k}>
            {i > 0 && ", "}
            <Link component={RouterLink} to={to + k}>{k}</Link>
          </Fragment>
        ))}
      </Typography>
    </>
  );
}

function Versions({ service }: { service: Service }) {
  const colour = useLaneColour();
  const out = new Map<string, number>();
  for (const o of service.callers.flatMap((c) => (c.versions ?? []).flatMap((v) => v.sidelined ?? []))) out.set(o.instance, (out.get(o.instance) ?? 0) + 1);
  return (
    <TableContainer component={Paper} variant="outlined">
      <Table size="small">
        <TableHead>
          <TableRow>
            {["Version", "Instance", "Site"].map((h) => <TableCell key={h}>{h}</TableCell>)}
            {["Intended", "Observed", "Rate", "Success", "First try", "Load", "p50", "p95", "p99"].map((h) => <TableCell key={h} align="right">{h}</TableCell>)}
          </TableRow>
        </TableHead>
        <TableBody>
          {service.versions.map((v, i) => (
            <Fragment key={v.name}>
              <TableRow>
                <TableCell sx={{ fontWeight: 650 }}>
                  <Box component="span" sx={{ display: "inline-block", width: 16, height: 12, mr: 1, borderRadius: 0.5, ...laneFill(colour(i), i) }} />
                  {v.name}
                  {!v.declared && service.declared && <Box component="span" sx={{ color: "warning.main" }}> not in the rules</Box>}
                </TableCell>
                <TableCell sx={{ color: v.instances.length ? "text.secondary" : "error.main" }}>{v.instances.length ? "" : "none now"}</TableCell>
                <TableCell />
                <TableCell align="right">{percent(v.intended)}</TableCell>
                <TableCell align="right" sx={{ fontWeight: 650 }}>{percent(v.observed)}</TableCell>
                <FigureCells figures={v.figures} />
              </TableRow>
              {v.instances.map((in_) => (
                <TableRow key={in_.id} sx={{ "& td": { color: "text.secondary" } }}>
                  <TableCell />
                  <TableCell title={in_.address}>
                    {in_.id}
                    {in_.down && <Box component="span" title={in_.down} sx={{ color: "error.main", fontWeight: 650 }}> ▼ unwell</Box>}
                    {out.has(in_.id) && <Box component="span" title="The table of guards below says why and for how long." sx={{ color: "warning.main", fontWeight: 650 }}> ⊘ sidelined in {out.get(in_.id)} of {service.callers.length}</Box>}
                    {in_.doubted && <Box component="span" title="The service lost sight of it and of most of its version at once; it is called on." sx={{ color: "warning.main", fontWeight: 650 }}> ▲ doubted</Box>}
                  </TableCell>
                  <TableCell>{in_.site}</TableCell>
                  <TableCell />
                  <TableCell align="right">{percent(in_.share)} of {v.name}</TableCell>
                  <FigureCells figures={in_.figures} />
                </TableRow>
              ))}
            </Fragment>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

function FigureCells({ figures: f }: { figures: Figures }) {
  return (
    <>
      <TableCell align="right">{rate(f.rps)}/s</TableCell>
      {[percent(f.success), percent(f.firstTry), f.loadFactor === null ? "–" : f.loadFactor.toFixed(2), millis(f.p50MS), millis(f.p95MS), millis(f.p99MS)].map((text, i) => (
        <TableCell key={i} align="right">{text}</TableCell>
      ))}
    </>
  );
}

/** Who calls it, and whom it calls. */
function Calls({ mesh, name }: { mesh: Mesh; name: string }) {
  const text = (list: Mesh["links"], other: "from" | "to") => list.map((l) => `${l[other]} ${rate(l.figures.rps)}/s (${percent(l.figures.success)})`).join(", ") || "nobody now";
  return (
    <Box sx={{ mt: 1.5, color: "text.secondary" }}>
      {mesh.services.some((s) => s.name === name) && <div>Called by: {text(mesh.links.filter((l) => l.to === name), "from")}</div>}
      <div>Calls: {text(mesh.links.filter((l) => l.from === name), "to")}</div>
    </Box>
  );
}
