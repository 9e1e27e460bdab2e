import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import Tab from "@mui/material/Tab";
import Tabs from "@mui/material/Tabs";
import TextField from "@mui/material/TextField";
import { useAddress, useNavigate } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { DataTable } from "../kit/DataTable";
import { plural } from "../kit/format";
import { NoProxies } from "../kit/NoProxies";
import { PageHeader } from "../kit/PageHeader";
import { rangeSearch, useMeshView, useRange } from "../kit/range";
import { groupOf, waysToGroup } from "../mesh/flow";
import { linkColumns } from "../service/Links";
import { routeColumns, rowsOfRoutes, rowsOfServices, serviceColumns, sumUp } from "./rows";
import { useSuccess } from "./useSuccess";

/** All services, links and routes as tables; what is wrong comes first. */
export function ServicesPage() {
  const { mesh, error } = useMeshView();
  const range = useRange();
  const search = rangeSearch(range);
  const [params, change] = useAddress();
  const go = useNavigate();
  const view = params.get("view") ?? "services";
  const by = params.get("by") ?? "service";
  const success = useSuccess(view === "services" && by === "service", range);
  if (!mesh) return error ? <Alert severity="error">{error}</Alert> : <Box sx={{ color: "text.secondary" }}>Waiting for the service</Box>;
  const services = rowsOfServices(mesh, success);
  const rows = by === "service" ? services : sumUp(services, (r) => (r.service ? groupOf(r.service, by) : "gateways"));
  const wrong = services.filter((r) => r.wrong.length > 0).length;
  const ways = waysToGroup(mesh);
  return (
    <>
      <PageHeader
        title="Services" about={`${plural(mesh.services.length, "service")} and ${plural(mesh.gateways.length, "gateway")}; ${wrong === 0 ? "none needs attention" : `${wrong} ${wrong === 1 ? "needs" : "need"} attention`}.`}
        actions={
          <>
            <CopyAsCommand line={`nightjar ${view === "links" ? "links" : "services"}${range.site && ` --site ${shellWord(range.site)}`}`} />
            {view === "services" && (
              <TextField select label="Group by" value={by} onChange={(e) => change({ by: e.target.value === "service" ? null : e.target.value })} sx={{ width: 150 }} data-test="by">
                {[...new Set([...ways, by])].map((w) => <MenuItem key={w} value={w}>{w}</MenuItem>)}
              </TextField>
            )}
          </>
        }
      />
      <Tabs value={view} onChange={(_, v: string) => change({ view: v === "services" ? null : v })} sx={{ borderBottom: 1, borderColor: "divider", mb: 1.5 }}>
        <Tab value="services" label="Services" />
        <Tab value="links" label={`Links (${mesh.links.length})`} data-test="view-links" />
        <Tab value="routes" label="Routes" data-test="view-routes" />
      </Tabs>
      {mesh.services.length === 0 && <NoProxies />}
      {view === "services" && mesh.services.length > 0 && (
        <DataTable
          name="services" columns={serviceColumns} rows={rows} idOf={(r) => r.name} rowClass={(r) => (r.wrong.length > 0 ? "attention" : "")}
          onPick={(r) => (r.kind === "group" ? change({ by: null }) : go(`/${r.kind === "gateway" ? "gateways" : "services"}/${r.name}${search}`))}
        />
      )}
      {view === "links" && <DataTable name="links" columns={linkColumns} rows={mesh.links} idOf={(l) => `${l.from}~${l.to}`} empty="No requests in this time" onPick={(l) => go(`/services/${l.to}${search}`)} />}
      {view === "routes" && (
        <DataTable
          name="routes" columns={routeColumns} rows={rowsOfRoutes(mesh)} idOf={(r) => `${r.parent}/${r.route.name}`} empty="The rules in force have no routes"
          onPick={(r) => go(`/${r.isGateway ? "gateways" : "services"}/${r.parent}?tab=routes&route=${r.route.name}${search.replace("?", "&")}`)}
        />
      )}
    </>
  );
}
