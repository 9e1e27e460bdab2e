import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import type { Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { tall } from "../kit/DataTable";
import { PageHeader } from "../kit/PageHeader";
import { useRange } from "../kit/range";
import { ActivityList } from "./ActivityList";
import { ChainState } from "./ChainState";

const most = 200; // entries that the service gives at once

/** What entries are about, by the names that the service has for it. */
const subjects: Record<string, string> = { rules: "rules and releases", drills: "drills and trials", proxies: "proxies and authority", people: "people and access", guards: "guards and health" };

const services = (mesh: Mesh | null) => mesh?.services.map((s) => s.name) ?? [];

/** Who changed what, and what proxies reported of their guards. */
export function ActivityPage() {
  const [params, change] = useAddress();
  const names = useMesh(services);
  const service = params.get("service") ?? "";
  const about = params.get("about") ?? "";
  const who = params.get("who") ?? "";
  const what = params.get("what") ?? "";
  const { site } = useRange();
  const filter = { ...(service && { service }), ...(site && { site }), ...(who && { who }), ...(what && { what }), ...(about && { about }) };
  const flags = Object.entries(filter).map(([name, value]) => ` --${name} ${shellWord(value)}`).join("");
  const choice = (name: string, label: string, value: string, list: string[], shown: Record<string, string> = {}) => (
    <TextField select label={label} value={value} onChange={(e) => change({ [name]: e.target.value })} sx={{ width: 170 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} data-test={`filter-${name}`}>
      {[...new Set(["", ...list, value])].map((v) => <MenuItem key={v} value={v}>{shown[v] ?? (v || "any")}</MenuItem>)}
    </TextField>
  );
  return (
    <>
      <PageHeader
        title="Activity" about="What people changed, and what proxies reported of their guards."
        actions={
          <>
            <Button variant="outlined" onClick={() => change({ verify: "yes" })} data-test="verify">Verify</Button>
            <CopyAsCommand line={`nightjar activity${flags} --limit ${most}`} />
          </>
        }
      />
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1.5 }}>
        {choice("service", "Service", service, names)}
        {choice("about", "About", about, Object.keys(subjects), subjects)}
        <TextField label="Who" placeholder="a person or a proxy" value={who} onChange={(e) => change({ who: e.target.value })} sx={{ width: 170 }} slotProps={{ inputLabel: { shrink: true } }} />
        <TextField label="What" placeholder="publish, sign-in" value={what} onChange={(e) => change({ what: e.target.value })} sx={{ width: 170 }} slotProps={{ inputLabel: { shrink: true }, htmlInput: { "data-test": "filter-what" } }} />
      </Box>
      {params.has("verify") && <ChainState onClose={() => change({ verify: null })} />}
      <ActivityList filter={filter} limit={most} height={tall} empty={flags ? "Nothing matches" : "Nothing happened yet. Publishes, drills, releases and what guards do are listed here."} />
    </>
  );
}
