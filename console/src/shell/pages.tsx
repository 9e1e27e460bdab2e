import Hub from "@mui/icons-material/HubOutlined";
import Apps from "@mui/icons-material/AppsOutlined";
import Stream from "@mui/icons-material/Stream";
import Polyline from "@mui/icons-material/PolylineOutlined";
import Article from "@mui/icons-material/ArticleOutlined";
import Moving from "@mui/icons-material/Moving";
import Cut from "@mui/icons-material/ContentCut";
import Play from "@mui/icons-material/PlayArrowOutlined";
import Compare from "@mui/icons-material/CompareArrows";
import Science from "@mui/icons-material/ScienceOutlined";
import Trend from "@mui/icons-material/QueryStatsOutlined";
import Shield from "@mui/icons-material/ShieldOutlined";
import Dns from "@mui/icons-material/DnsOutlined";
import History from "@mui/icons-material/HistoryOutlined";
import Place from "@mui/icons-material/PlaceOutlined";
import Group from "@mui/icons-material/GroupOutlined";
import type { SvgIconComponent } from "@mui/icons-material";
import { lazy, type ComponentType, type LazyExoticComponent } from "react";

/** A page of the console. */
export interface Page {
  name: string;
  to: string;
  icon: SvgIconComponent;
  group: "Observe" | "Change" | "Verify" | "Govern";
  /** Words by which the search finds it too. */
  about: string;
}

/** The pages of the navigation, in order. */
export const pages: Page[] = [
  { name: "Mesh", to: "/", icon: Hub, group: "Observe", about: "flow of requests between services" },
  { name: "Services", to: "/services", icon: Apps, group: "Observe", about: "table of services, links and routes" },
  { name: "Sites", to: "/sites", icon: Place, group: "Observe", about: "what runs where, crossings, requests between sites" },
  { name: "Requests", to: "/requests", icon: Stream, group: "Observe", about: "live requests as they end" },
  { name: "Traces", to: "/traces", icon: Polyline, group: "Observe", about: "attempts and waits of single requests" },
  { name: "Rules", to: "/rules", icon: Article, group: "Change", about: "edit, check and publish rule files; history of revisions" },
  { name: "Releases", to: "/releases", icon: Moving, group: "Change", about: "move to a new version in judged stages" },
  { name: "Drills", to: "/drills", icon: Cut, group: "Change", about: "inject failures for a limited time" },
  { name: "Try", to: "/try", icon: Play, group: "Verify", about: "send requests and explain where they go" },
  { name: "Effects", to: "/effects", icon: Compare, group: "Verify", about: "success before and after each revision" },
  { name: "Trials", to: "/trials", icon: Science, group: "Verify", about: "a limited load with expectations" },
  { name: "Forecast", to: "/forecast", icon: Trend, group: "Verify", about: "what would happen under a draft" },
  { name: "Access", to: "/access", icon: Shield, group: "Govern", about: "who may call whom; certificates" },
  { name: "Fleet", to: "/fleet", icon: Dns, group: "Govern", about: "proxies and the revision that each has" },
  { name: "Activity", to: "/activity", icon: History, group: "Govern", about: "who changed what; events of guards" },
  { name: "People", to: "/people", icon: Group, group: "Govern", about: "access tokens, sessions, roles" },
];

export const groups = ["Observe", "Change", "Verify", "Govern"] as const;

/** Loads the code of a page when it is opened; the second value begins that earlier. */
function code<M extends Record<N, ComponentType>, N extends string>(load: () => Promise<M>, name: N): { path: LazyExoticComponent<ComponentType>; load: () => Promise<unknown> } {
  return { path: lazy(() => load().then((m) => ({ default: m[name] }))), load };
}

const routes: [path: string, begins: string, page: ReturnType<typeof code>][] = [
  ["/", "", code(() => import("../mesh/MeshPage"), "MeshPage")],
  ["/services", "/services", code(() => import("../services/ServicesPage"), "ServicesPage")],
  ["/services/:name", "/services/", code(() => import("../service/ServicePage"), "ServicePage")],
  ["/gateways/:name", "/gateways/", code(() => import("../service/ServicePage"), "GatewayPage")],
  ["/sites", "/sites", code(() => import("../sites/SitesPage"), "SitesPage")],
  ["/requests", "/requests", code(() => import("../requests/RequestsPage"), "RequestsPage")],
  ["/traces/:id?", "/traces", code(() => import("../traces/TracesPage"), "TracesPage")],
  ["/rules", "/rules", code(() => import("../rules/RulesPage"), "RulesPage")],
  ["/releases/:name?", "/releases", code(() => import("../releases/ReleasesPage"), "ReleasesPage")],
  ["/drills", "/drills", code(() => import("../drills/DrillsPage"), "DrillsPage")],
  ["/try", "/try", code(() => import("../tryout/TryPage"), "TryPage")],
  ["/effects", "/effects", code(() => import("../effects/EffectsPage"), "EffectsPage")],
  ["/trials", "/trials", code(() => import("../trials/TrialsPage"), "TrialsPage")],
  ["/forecast", "/forecast", code(() => import("../forecast/ForecastPage"), "ForecastPage")],
  ["/access", "/access", code(() => import("../access/AccessPage"), "AccessPage")],
  ["/fleet", "/fleet", code(() => import("../fleet/FleetPage"), "FleetPage")],
  ["/activity", "/activity", code(() => import("../activity/ActivityPage"), "ActivityPage")],
  ["/people", "/people", code(() => import("../people/PeoplePage"), "PeoplePage")],
];

/** Each address with its page. */
export const places = routes.map(([path, , page]) => ({ path, Page: page.path }));

/** Pages that begin with a table. */
const withTable = ["/services", "/sites", "/requests", "/traces/:id?", "/effects", "/fleet", "/activity", "/people"];

// The code of the first page is loaded while the frame around it is drawn.
const first = routes.filter(([path, begins]) => (path === "/" ? location.pathname === "/" : location.pathname.startsWith(begins))).at(-1);
const ignore = () => undefined; // the page itself says what went wrong
void first?.[2].load().catch(ignore);
if (first && withTable.includes(first[0])) void import("../kit/Table").catch(ignore);
