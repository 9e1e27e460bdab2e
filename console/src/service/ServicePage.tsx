import Box from "@mui/material/Box";
import MuiLink from "@mui/material/Link";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableContainer from "@mui/material/TableContainer";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { Fragment, lazy, Suspense } from "react";
import { Link as RouterLink, useParams } from "react-router";
import type { Figures, Mesh, Query, Service } from "../api/client";
import { useLive } from "../api/live";
import { millis, percent, rate } from "../parts/format";
import { laneFill, useLaneColour } from "../parts/lanes";
import { FigureTable } from "../parts/FigureTable";
import { RecentFailures } from "../parts/RecentFailures";
import { Activity } from "./Activity";
import { DrillForm } from "./Drills";
import { GuardPreview } from "./GuardPreview";
import { Guards } from "./Guards";
import { RouteCard } from "./RouteCard";

const History = lazy(() => import("./History"));
const Instances = lazy(() => import("./Instances"));
const Links = lazy(() => import("./Links"));
/** The running release that changes the weights of a route, or added the route for its cohort. */
const releaseOf = (mesh: Mesh, parent: string, route: string) => mesh.releases.find((r) => [...r.places, ...r.cohorts].some((p) => p.parent === parent && p.route === route));

const loading = <Box sx={{ height: 120, color: "text.secondary" }}>Loading</Box>;

/** One service: routes in match order, versions, instances, links and guards. */
export function ServicePage() {
  const { name = "" } = useParams();
  const { mesh } = useLive();
  if (!mesh) return <Typography sx={{ color: "text.secondary" }}>Waiting for the service</Typography>;
  const service = mesh.services.find((s) => s.name === name);
  if (!service) return <Unknown name={name} kind="service" known={mesh.services.map((s) => s.name)} to="/services/" />;
  const versions = service.versions.map((v) => v.name);
  return (
    <>
      <Head name={name} note={service.owner ? `Owner: ${service.owner}` : service.isDeclared ? "" : "not in the rules"} figures={service.figures} mesh={mesh} query={{ service: name }} />
      <Heading>Routes, in match order</Heading>
      {service.routes.length === 0 ? (
        <Typography sx={{ color: "text.secondary" }} data-test="plain">
          No routes: requests are balanced over all instances of all versions.
        </Typography>
      ) : (
        <Box component="ol" sx={{ p: 0, m: 0 }}>
          {service.routes.map((r, i) => (
            <RouteCard key={r.name} route={r} number={i + 1} service={name} versions={versions} revision={mesh.revision.number} release={releaseOf(mesh, name, r.name)} />
          ))}
        </Box>
      )}
      <Heading>Versions and instances</Heading>
      <Versions service={service} />
      <Box sx={{ mt: 1.5 }}>
        <Suspense fallback={loading}><Instances service={service} /></Suspense>
      </Box>
      <Heading>Links</Heading>
      <Suspense fallback={loading}><Links mesh={mesh} name={name} /></Suspense>
      <Heading>Recent failures</Heading>
      <RecentFailures query={{ to: name }} />
      <Heading>Guards, by calling proxy</Heading>
      <Guards guards={service.guards} />
      {service.isDeclared && <GuardPreview key={`guard ${name}`} service={name} />}
      <Box sx={{ mt: 1.5 }}>
        <DrillForm key={name} service={service} />
      </Box>
      <Heading>Changes and guard events</Heading>
      <Activity service={name} />
    </>
  );
}

/** One gateway. Its routes are changed in files. */
export function GatewayPage() {
  const { name = "" } = useParams();
  const { mesh } = useLive();
  if (!mesh) return <Typography sx={{ color: "text.secondary" }}>Waiting for the service</Typography>;
  const gateway = mesh.gateways.find((g) => g.name === name);
  if (!gateway) return <Unknown name={name} kind="gateway" known={mesh.gateways.map((g) => g.name)} to="/gateways/" />;
  return (
    <>
      <Head name={name} note={`gateway at ${gateway.listen} for ${gateway.hosts.join(", ")}${gateway.isRunning ? "" : "; no proxy serves it"}`} figures={gateway.figures} mesh={mesh} query={{ caller: name }} />
      <Heading>Routes, in match order</Heading>
      <Box component="ol" sx={{ p: 0, m: 0 }}>
        {gateway.routes.map((r, i) => (
          <RouteCard key={r.name} route={r} number={i + 1} versions={r.send.map((t) => t.target)} revision={mesh.revision.number} release={releaseOf(mesh, name, r.name)} />
        ))}
      </Box>
      <Heading>Links</Heading>
      <Suspense fallback={loading}><Links mesh={mesh} name={name} /></Suspense>
      <Heading>Recent failures</Heading>
      <RecentFailures query={{ from: name }} />
      {gateway.guards.length > 0 && (
        <>
          <Heading>Limits, by proxy</Heading>
          <Guards guards={gateway.guards} />
        </>
      )}
    </>
  );
}

function Heading({ children }: { children: React.ReactNode }) {
  return <Typography variant="h2" sx={{ mt: 2.5, mb: 1 }}>{children}</Typography>;
}

function Head({ name, note, figures, mesh, query }: { name: string; note: string; figures: Figures; mesh: Mesh; query: Query }) {
  const r = mesh.revision;
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 1.5, mb: 1 }}>
        <Typography variant="h1">{name}</Typography>
        <Box sx={{ color: "text.secondary" }}>{note}</Box>
        <Box sx={{ ml: "auto", color: "text.secondary" }} data-test="rollout">
          {r.number === 0 ? "no rules in force" : `revision ${r.number} in force in ${r.acknowledged} of ${r.connected} proxies`}
          {r.behind.length > 0 && `; behind: ${r.behind.join(", ")}`}
        </Box>
      </Box>
      <Box sx={{ display: "grid", columnGap: 4, rowGap: 1.5, gridTemplateColumns: { xs: "1fr", md: "390px minmax(0, 1fr)" } }}>
        <FigureTable figures={figures} />
        <Suspense fallback={<Box sx={{ height: 190 }} />}><History query={query} /></Suspense>
      </Box>
    </>
  );
}

function Unknown({ name, kind, known, to }: { name: string; kind: string; known: string[]; to: string }) {
  return (
    <>
      <Typography variant="h1">There is no {kind} {name}</Typography>
      <Typography sx={{ mt: 1 }}>
        {known.length ? "Known: " : "None is known."}
        {known.map((k, i) => (
          <Fragment key={k}>
            {i > 0 && ", "}
            <MuiLink component={RouterLink} to={to + k}>{k}</MuiLink>
          </Fragment>
        ))}
      </Typography>
    </>
  );
}

function Versions({ service }: { service: Service }) {
  const colour = useLaneColour();
  return (
    <TableContainer component={Paper} variant="outlined">
      <Table size="small">
        <TableHead>
          <TableRow>
            {["Version", "Instances"].map((h) => <TableCell key={h}>{h}</TableCell>)}
            {["Intended", "Observed", "Req/s", "Success", "Workload success", "First attempt", "Attempts/req", "p50", "p95", "p99"].map((h) => <TableCell key={h} align="right">{h}</TableCell>)}
          </TableRow>
        </TableHead>
        <TableBody>
          {service.versions.map((v, i) => (
            <TableRow key={v.name} data-test={`version-${v.name}`}>
              <TableCell sx={{ fontWeight: 650 }}>
                <Box component="span" sx={{ display: "inline-block", width: 16, height: 12, mr: 1, borderRadius: 0.5, ...laneFill(colour(i), i) }} />
                {v.name}
                {!v.isDeclared && service.isDeclared && <Box component="span" sx={{ color: "warning.main" }}> not in the rules</Box>}
              </TableCell>
              <TableCell sx={{ color: v.instances.length ? "text.secondary" : "error.main" }}>{v.instances.length || "none"}</TableCell>
              <TableCell align="right">{percent(v.intended)}</TableCell>
              <TableCell align="right" sx={{ fontWeight: 650 }}>{percent(v.observed)}</TableCell>
              <FigureCells figures={v.figures} />
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

function FigureCells({ figures: f }: { figures: Figures }) {
  return (
    <>
      <TableCell align="right">{rate(f.rps)}</TableCell>
      {[percent(f.success), percent(f.workload?.success), percent(f.firstAttempt), f.attemptsPerRequest === null ? "–" : f.attemptsPerRequest.toFixed(2), millis(f.p50MS), millis(f.p95MS), millis(f.p99MS)].map((text, i) => (
        <TableCell key={i} align="right">{text}</TableCell>
      ))}
    </>
  );
}
