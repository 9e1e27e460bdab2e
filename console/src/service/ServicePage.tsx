import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MuiLink from "@mui/material/Link";
import Tab from "@mui/material/Tab";
import Tabs from "@mui/material/Tabs";
import { Fragment, useEffect, type ReactNode } from "react";
import { Link, useParams } from "wouter";
import { ActivityList } from "../activity/ActivityList";
import type { Gateway, Mesh, Route, Service } from "../api/client";
import { DraftBar } from "../change/DraftBar";
import { RouteForm } from "../change/RouteForm";
import { useBundle } from "../change/useBundle";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { FactTable } from "../kit/FactTable";
import { FigureTable } from "../kit/FigureTable";
import { useIsOfTeam } from "../kit/For";
import { percent } from "../kit/format";
import { History } from "../kit/History";
import { Heading, PageHeader } from "../kit/PageHeader";
import { Place } from "../kit/Place";
import { rangeSearch, useMeshView, useRange, type Range } from "../kit/range";
import { RecentFailures } from "../requests/RecentFailures";
import { GuardPreview } from "./GuardPreview";
import { Guards } from "./Guards";
import { Instances } from "./Instances";
import { Links } from "./Links";
import { RouteCard } from "./RouteCard";
import { Settings } from "./Settings";
import { Versions } from "./Versions";

/** The running release that changes the weights of a route, or added the route for its cohort. */
const releaseOf = (mesh: Mesh, parent: string, route: string) => mesh.releases.find((r) => [...r.places, ...r.cohorts].some((p) => p.parent === parent && p.route === route));

/** One service: its figures, routes, settings, instances, requests and activity. */
export function ServicePage() {
  const { name = "" } = useParams<{ name?: string }>();
  const { mesh, error } = useMeshView();
  const search = rangeSearch(useRange());
  const edit = useBundle({ section: "services", parent: name });
  if (!mesh) return <Missing error={error} />;
  const service = mesh.services.find((s) => s.name === name);
  if (!service) return <Unknown name={name} kind="service" known={mesh.services.map((s) => s.name)} to="/services/" />;
  const note = [service.team && `Team: ${service.team}`, service.owner && `Owner: ${service.owner}`, service.isOutside && "outside the mesh", !service.isDeclared && "not in the rules"].filter(Boolean).join("; ");
  const views: View[] = [
    { id: "overview", name: "Overview", body: () => <ServiceOverview mesh={mesh} service={service} /> },
    { id: "routes", name: "Routes", count: service.routes.length, body: () => <Ladder mesh={mesh} edit={edit} parent={name} routes={service.routes} versions={service.versions.map((v) => v.name)} /> },
    { id: "settings", name: "Settings", body: () => (service.isDeclared ? <Settings service={name} edit={edit} /> : <Box sx={{ color: "text.secondary" }}>The rules in force do not name this service, so it has the settings that are built in.</Box>) },
    { id: "instances", name: "Instances", count: service.versions.reduce((sum, v) => sum + v.instances.length, 0), body: () => <InstancesView service={service} /> },
    { id: "requests", name: "Requests", body: () => <Failures query={{ to: name }} /> },
    { id: "activity", name: "Activity", body: () => <ActivityList key={name} filter={{ service: name }} limit={100} empty="No change, guard event or drill is recorded." /> },
  ];
  return (
    <>
      <PageHeader
        key={name} title={name} parent={{ name: "Services", to: `/services${search}` }} about={note} state={<State success={service.figures.success} />}
        actions={
          <>
            <CopyAsCommand line={`nightjar services ${shellWord(name)} -o wide`} />
            <Button component={Link} to={`/try?url=${encodeURIComponent(`http://${name}/`)}`}>Try a request</Button>
            <Button component={Link} to={`/drills?service=${name}`} variant="outlined" data-test="drill">Start a drill</Button>
          </>
        }
      />
      <DraftBar key={`draft ${name}`} edit={edit} />
      <Views key={name} views={views} />
    </>
  );
}

/** One gateway. Its routes are changed in files. */
export function GatewayPage() {
  const { name = "" } = useParams<{ name?: string }>();
  const { mesh, error } = useMeshView();
  const search = rangeSearch(useRange());
  const edit = useBundle({ section: "gateways", parent: name });
  if (!mesh) return <Missing error={error} />;
  const gateway = mesh.gateways.find((g) => g.name === name);
  if (!gateway) return <Unknown name={name} kind="gateway" known={mesh.gateways.map((g) => g.name)} to="/gateways/" />;
  const views: View[] = [
    { id: "overview", name: "Overview", body: () => <GatewayOverview mesh={mesh} gateway={gateway} /> },
    { id: "routes", name: "Routes", count: gateway.routes.length, body: () => <Ladder mesh={mesh} edit={edit} parent={name} isGateway routes={gateway.routes} versions={[]} /> },
    { id: "requests", name: "Requests", body: () => <Failures query={{ from: name }} /> },
  ];
  return (
    <>
      <PageHeader
        key={name} title={name} parent={{ name: "Services", to: `/services${search}` }} state={<State success={gateway.figures.success} />}
        about={`gateway at ${gateway.listen} for ${gateway.hosts.join(", ")}${gateway.isRunning ? "" : "; no proxy serves it"}`} actions={<CopyAsCommand line="nightjar services" />}
      />
      <DraftBar key={`draft ${name}`} edit={edit} />
      <Views key={name} views={views} />
    </>
  );
}

interface View {
  id: string;
  name: string;
  count?: number;
  body: () => ReactNode;
}

/** The views of a page as tabs; the address says which one is shown. */
function Views({ views }: { views: View[] }) {
  const [params, change] = useAddress();
  const shown = views.find((v) => v.id === params.get("tab")) ?? views[0];
  const route = params.get("route");
  useEffect(() => {
    if (route) document.getElementById(`route-${route}`)?.scrollIntoView({ block: "center" });
  }, [route]);
  if (!shown) return null;
  return (
    <>
      <Tabs value={shown.id} onChange={(_, id: string) => change({ tab: id === views[0]?.id ? null : id, route: null })} variant="scrollable" sx={{ borderBottom: 1, borderColor: "divider", mb: 2 }}>
        {views.map((v) => <Tab key={v.id} value={v.id} label={v.count ? `${v.name} (${v.count})` : v.name} id={`tab-${v.id}`} aria-controls="view" data-test={`tab-${v.id}`} />)}
      </Tabs>
      <div role="tabpanel" id="view" aria-labelledby={`tab-${shown.id}`}>{shown.body()}</div>
    </>
  );
}

/** Whether requests succeed, in a word. */
function State({ success }: { success: number | null }) {
  if (success === null) return <Box component="span" sx={{ color: "text.secondary" }}>no requests</Box>;
  const isBad = success < 0.99;
  return <Box component="span" sx={{ color: isBad ? "error.main" : "success.main", fontWeight: 650 }}>{isBad ? "▼ " : ""}{percent(success)} succeed</Box>;
}

const columns = { display: "grid", columnGap: 4, rowGap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "400px minmax(0, 1fr)" } };

function ServiceOverview({ mesh, service }: { mesh: Mesh; service: Service }) {
  const range = useRange();
  return (
    <>
      <Box sx={columns}>
        <FigureTable figures={service.figures} />
        <History of={{ service: service.name, ...siteOf(range) }} long={range.history} end={range.at} />
      </Box>
      <Heading>Versions</Heading>
      <Versions service={service} />
      <Heading>Links</Heading>
      <Links mesh={mesh} name={service.name} />
    </>
  );
}

function GatewayOverview({ mesh, gateway }: { mesh: Mesh; gateway: Gateway }) {
  const range = useRange();
  const ofTeam = useIsOfTeam(); // the history counts the requests of all teams
  return (
    <>
      <Box sx={columns}>
        <FigureTable figures={gateway.figures} />
        {!ofTeam && <History of={{ caller: gateway.name, ...siteOf(range) }} long={range.history} end={range.at} />}
      </Box>
      <Heading>Links</Heading>
      <Links mesh={mesh} name={gateway.name} />
      {(gateway.edge ?? []).length > 0 && (
        <>
          <Heading>Outsiders</Heading>
          <FactTable isWide head={["Setting", "Value", "Where"]} rows={(gateway.edge ?? []).map((e) => ({ key: e.name, cells: [e.name, <strong key="value">{e.value}</strong>, <Place key="at" at={e.at} />] }))} />
        </>
      )}
      {gateway.guards.length > 0 && (
        <>
          <Heading>Limits, by proxy</Heading>
          <Guards guards={gateway.guards} />
        </>
      )}
    </>
  );
}

/** Routes in match order. */
/** The bundle of a file, by its name. */
const bundleAt = (file = "") => (file.includes(":") ? file.slice(0, file.indexOf(":")) : "main");

interface LadderProps {
  mesh: Mesh;
  edit: ReturnType<typeof useBundle>;
  parent: string;
  routes: Route[];
  versions: string[];
  isGateway?: boolean;
}

function Ladder({ mesh, edit, parent, routes, versions, isGateway = false }: LadderProps) {
  const [params, change] = useAddress();
  const edited = params.get("edit");
  const all = mesh.services.flatMap((s) => s.versions.map((v) => `${s.name}/${v.name}`));
  const targets = isGateway ? [...mesh.services.map((s) => s.name), ...all] : [...versions, ...all.filter((t) => !t.startsWith(`${parent}/`))];
  const keep = async (route: string, weights: Record<string, number>) => {
    const { findings } = await edit.amend([{ path: [isGateway ? "gateways" : "services", parent, "routes", route, "send"], value: weights }]);
    const mistake = findings.find((f) => f.severity === "mistake");
    if (mistake) throw new Error(mistake.message);
  };
  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", gap: 1, mb: 1, color: "text.secondary" }}>
        <Box sx={{ flex: "1 1 300px" }} {...(routes.length === 0 ? { "data-test": "plain" } : {})}>
          {routes.length === 0 ? "No routes: requests are balanced over all instances of all versions." : "In match order: the first route whose condition holds takes the request. The upper bar is what the rules intend, the lower one what was observed."}
        </Box>
        {edit.bundle && <Button variant="outlined" onClick={() => change({ edit: "+" })} data-test="add-route">Add a route</Button>}
      </Box>
      {edited && <RouteForm key={edited} edit={edit} section={isGateway ? "gateways" : "services"} parent={parent} name={edited === "+" ? "" : edited} targets={targets} onClose={() => change({ edit: null })} />}
      <Box component="ol" sx={{ p: 0, m: 0 }}>
        {routes.map((r, i) => (
          <RouteCard
            key={`${parent}/${r.name}`} route={r} number={i + 1} parent={parent} isGateway={isGateway} versions={versions} revision={mesh.revision.number} release={releaseOf(mesh, parent, r.name)}
            {...(edit.bundle && edit.bundle.name === bundleAt(r.at.file) ? { onEdit: () => change({ edit: r.name }), onDraft: (weights: Record<string, number>) => keep(r.name, weights) } : {})}
          />
        ))}
      </Box>
    </>
  );
}

function InstancesView({ service }: { service: Service }) {
  return (
    <>
      <Instances service={service} />
      <Heading>Guards, by calling proxy</Heading>
      <Guards guards={service.guards} />
      {service.isDeclared && <GuardPreview key={service.name} service={service.name} />}
    </>
  );
}

/** The part of a query that narrows it to the site of the page. */
const siteOf = (r: Range): { site?: string } => (r.site ? { site: r.site } : {});

function Failures({ query: wide }: { query: { to?: string; from?: string } }) {
  const query = { ...wide, ...siteOf(useRange()) };
  return (
    <>
      <Box sx={{ mb: 1 }}><Link to={`/requests?${new URLSearchParams(query).toString()}`} style={{ color: "inherit" }}>Follow live requests</Link></Box>
      <Heading>Recent failures</Heading>
      <RecentFailures query={query} limit={30} />
    </>
  );
}

function Missing({ error }: { error: string }) {
  return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Waiting for the service</Box>;
}

const mostKnown = 60; // names that are listed

function Unknown({ name, kind, known, to }: { name: string; kind: string; known: string[]; to: string }) {
  const { site } = useRange();
  return (
    <>
      <PageHeader title={site ? `Nothing of ${kind} ${name} is at ${site}` : `There is no ${kind} ${name}`} />
      {site && <Box sx={{ mb: 1 }}><MuiLink component={Link} to={to + name}>Look at all sites</MuiLink></Box>}
      {known.length ? "Known: " : <>No {kind} is known yet. <MuiLink component={Link} to="/">The page Mesh says how to start one.</MuiLink></>}
      {known.slice(0, mostKnown).map((k, i) => (
        <Fragment key={k}>
          {i > 0 && ", "}
          <MuiLink component={Link} to={to + k}>{k}</MuiLink>
        </Fragment>
      ))}
      {known.length > mostKnown && <>, and {known.length - mostKnown} more: <MuiLink component={Link} to="/services">show all services</MuiLink></>}
    </>
  );
}
