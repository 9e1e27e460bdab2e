import Box from "@mui/material/Box";
import { Link } from "wouter";
import type { AccessLink, AccessMatrix } from "../api/client";
import { Drawer } from "../kit/Drawer";
import { moment, plural } from "../kit/format";
import { callerName } from "./state";

const identities: Record<string, string> = {
  required: "required: both ends prove who they are, by mutual TLS",
  optional: "optional: members prove who they are, others are let in without",
  none: "none: nobody is asked, and nothing is encrypted",
};

const states: Record<string, string> = { allowed: "every request is allowed", partly: "some requests are allowed", denied: "no request is allowed" };

/** One caller and one service: what decides, and the way to their requests. */
export function LinkPanel({ link, access, onClose }: { link: AccessLink; access: AccessMatrix; onClose: () => void }) {
  const caller = link.from.replace("gateway/", "");
  const requests = (more: Record<string, string>) => `/requests?${new URLSearchParams({ ...(caller ? { from: caller } : {}), to: link.to, ...more }).toString()}`;
  const unproven = link.from ? "" : access.unproven.filter((u) => u.service === link.to).map((u) => `${u.address} (${u.requests}, the last ${when(u.lastUsed)})`).join("; ");
  const facts: [string, string][] = [
    ["access", `${states[link.state] ?? link.state}${link.rules.length ? `, by ${link.rules.join(", then ")}` : access.hasRules ? `, by the default (${access.default})` : ""}`],
    ["identity", link.identity ? (identities[link.identity] ?? link.identity) : "the service is outside the mesh: nobody is asked"],
    ["used", link.used ? `${plural(link.used, "request")}, the last ${when(link.lastUsed)}` : `not in the last ${access.days} days`],
    ["refused", link.refused ? `${plural(link.refused, "request")}, the last ${when(link.lastRefused)}` : "none"],
    ...(unproven ? [["addresses", unproven] as [string, string]] : []),
    ...(link.watched ? [["would be refused", plural(link.watched, "request")] as [string, string]] : []),
  ];
  return (
    <Drawer title={`${callerName(link.from)} → ${link.to}`} onClose={onClose} test="access-link">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", gap: 1.5, mb: 1 }}>
        {caller && <Link to={requests({})} style={{ color: "inherit" }}>Live requests</Link>}
        {caller && link.refused > 0 && <Link to={requests({ reason: "denied" })} style={{ color: "inherit" }} data-test="refused-requests">Refused requests</Link>}
        <Link to={`/services/${link.to}`} style={{ color: "inherit" }}>Service</Link>
      </Box>
      <Box component="dl" sx={{ display: "grid", gridTemplateColumns: "max-content 1fr", columnGap: 2, rowGap: 0.25, m: 0, "& dt": { color: "text.secondary" }, "& dd": { m: 0 } }}>
        {facts.map(([name, value]) => [<dt key={name}>{name}</dt>, <dd key={`${name} value`}>{value}</dd>])}
      </Box>
    </Drawer>
  );
}

const when = (iso: string | undefined): string => (iso ? moment(iso) : "never");
