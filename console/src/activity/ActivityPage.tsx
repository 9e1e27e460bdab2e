import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import type { ActivityEntry, Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { PageHeader } from "../kit/PageHeader";
import { ActivityList } from "./ActivityList";

const most = 200; // entries that the service gives at once

const people = /^(publish|split|restore|remove|release|draft)/;
const checks = /^(drill|trial)/;
const members = /^(join|token|authority|reject|root|adopt)/;

const kinds: Record<string, (kind: string) => boolean> = {
  "rules and releases": (k) => people.test(k),
  "drills and trials": (k) => checks.test(k),
  proxies: (k) => members.test(k),
  guards: (k) => ![people, checks, members].some((r) => r.test(k)),
};

const services = (mesh: Mesh | null) => mesh?.services.map((s) => s.name) ?? [];

/** Who changed what, and what proxies reported of their guards. */
export function ActivityPage() {
  const [params, change] = useAddress();
  const names = useMesh(services);
  const service = params.get("service") ?? "";
  const kind = params.get("kind") ?? "";
  const who = params.get("who") ?? "";
  const choice = (name: string, label: string, value: string, list: string[]) => (
    <TextField select label={label} value={value} onChange={(e) => change({ [name]: e.target.value })} sx={{ width: 170 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} data-test={`filter-${name}`}>
      {[...new Set(["", ...list, value])].map((v) => <MenuItem key={v} value={v}>{v || "any"}</MenuItem>)}
    </TextField>
  );
  const isWanted = (e: ActivityEntry) => (kinds[kind]?.(e.kind) ?? true) && e.who.toLowerCase().includes(who.toLowerCase());
  return (
    <>
      <PageHeader
        title="Activity" about="What people changed, and what proxies reported of their guards."
        actions={<CopyAsCommand line={`nightjar activity${service ? ` --service ${shellWord(service)}` : ""} --limit ${most}`} />}
      />
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1.5 }}>
        {choice("service", "Service", service, names)}
        {choice("kind", "About", kind, Object.keys(kinds))}
        <TextField label="Who" placeholder="a person or a proxy" value={who} onChange={(e) => change({ who: e.target.value })} sx={{ width: 170 }} slotProps={{ inputLabel: { shrink: true } }} />
      </Box>
      <ActivityList {...(service ? { service } : {})} limit={most} only={isWanted} height={620} empty="Nothing matches. The newest 200 entries are searched." />
    </>
  );
}
