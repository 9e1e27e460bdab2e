import type { Gateway, Mesh, Service } from "../api/client";
import { nothing, type Flow, type FlowLink, type FlowNode, type Sums } from "./flow";

/** Requests from one site to one version at one site. */
type Part = NonNullable<Mesh["links"][number]["sites"]>[number];

/** The id of the card of a service, gateway or caller at a site; empty: at none. */
export const cardAt = (name: string, site: string): string => (site ? `${name}@${site}` : name);

/** The name and the site of a card; the site is empty where it has none. */
export function placeOfCard(id: string): { name: string; site: string } {
  const [name = "", site = ""] = id.split("@");
  return { name, site };
}

const inOrder = (sites: Iterable<string>): string[] => [...new Set(sites)].sort();

/** The sites of the cards of a service. Requests that came to an instance that has gone keep a card for its site. */
function sitesOf(s: Service, parts: Part[]): string[] {
  const sites = inOrder([...s.versions.flatMap((v) => v.instances.map((i) => i.site ?? "")), ...parts.flatMap((p) => (p.to ? [p.to] : []))]);
  return sites.length > 0 ? sites : [""];
}

/** A service as it is at one site. What the rules intend holds for all sites together, so that a site has none. */
function serviceAt(s: Service, site: string, parts: Part[]): Service {
  const all = parts.reduce((sum, p) => sum + (p.version ? p.requests : 0), 0);
  const versions = s.versions.flatMap((v) => {
    const instances = v.instances.filter((i) => (i.site ?? "") === site).map((i) => ({ ...i, site: "" })); // the band says it
    const got = parts.reduce((sum, p) => sum + (p.version === v.name ? p.requests : 0), 0);
    return instances.length > 0 || got > 0 ? [{ ...v, instances, intended: null, observed: all > 0 ? got / all : null }] : [];
  });
  return { ...s, versions };
}

/**
 * Cards and links of the picture with one card for each service, gateway and caller at each site.
 * Requests that reached no instance are drawn to the card at their caller's site, or else to the first.
 */
export function sitedFlow(mesh: Mesh, seen: Set<string>): Flow {
  const sumsOf = (list: Part[]): Sums =>
    list.reduce((sum, p) => ({ rps: sum.rps + p.requests / mesh.window, requests: sum.requests + p.requests, ok: sum.ok + p.requests - p.bad, bad: sum.bad + p.bad }), nothing);
  const partsOf = (l: Mesh["links"][number]): Part[] =>
    l.sites ?? [{ from: "", to: "", version: "", requests: l.figures.requests, bad: l.figures.failed + l.figures.refused }];
  const nodes = new Map<string, FlowNode>();
  const sites = new Map<string, string[]>(); // of the cards of a service
  const links = new Map<string, FlowLink & { all: Part[] }>();
  const common = { members: [], p95MS: null };
  const called = Map.groupBy(mesh.links, (l) => l.to);
  for (const s of mesh.services) sites.set(s.name, sitesOf(s, (called.get(s.name) ?? []).flatMap(partsOf)));
  for (const l of mesh.links) {
    const there = sites.get(l.to) ?? [""];
    for (const p of partsOf(l)) {
      const to = cardAt(l.to, there.includes(p.to) ? p.to : there.includes(p.from) ? p.from : (there[0] ?? ""));
      const from = cardAt(l.from, (sites.get(l.from) ?? [p.from]).includes(p.from) ? p.from : (sites.get(l.from)?.[0] ?? ""));
      const id = `${from}~${to}`;
      const link = links.get(id) ?? { id, from, to, sums: nothing, parts: [], all: [] };
      link.all.push(p);
      links.set(id, link);
      seen.add(id);
    }
  }
  const into = Map.groupBy(links.values(), (l) => l.to);
  const outOf = Map.groupBy(links.values(), (l) => l.from);
  const all = (list: { all: Part[] }[] | undefined): Part[] => (list ?? []).flatMap((l) => l.all);
  for (const service of mesh.services) {
    for (const site of sites.get(service.name) ?? []) {
      const id = cardAt(service.name, site);
      const parts = all(into.get(id));
      nodes.set(id, { ...common, id, name: service.name, band: site, kind: "service", service: serviceAt(service, site, parts), sums: sumsOf(parts) });
    }
  }
  const gatewayCards = (g: Gateway): string[] => {
    const running = inOrder([...g.sites, ...[...outOf.keys()].map(placeOfCard).flatMap((c) => (c.name === g.name ? [c.site] : []))]);
    return (running.length > 0 ? running : [""]).map((site) => cardAt(g.name, site));
  };
  for (const gateway of mesh.gateways) {
    for (const id of gatewayCards(gateway)) nodes.set(id, { ...common, id, name: gateway.name, band: placeOfCard(id).site, kind: "gateway", gateway, sums: sumsOf(all(outOf.get(id))) });
  }
  for (const id of seen) {
    const [from = "", to = ""] = id.split("~");
    if (!nodes.has(to)) continue;
    const { name, site } = placeOfCard(from);
    if (!nodes.has(from) && !sites.has(name)) nodes.set(from, { ...common, id: from, name, band: site, kind: "caller", sums: nothing });
    if (nodes.has(from) && !links.has(id)) links.set(id, { id, from, to, sums: nothing, parts: [], all: [] });
  }
  const possible = mesh.gateways.flatMap((g) =>
    g.routes.flatMap((r) => r.send).flatMap((t) => gatewayCards(g).flatMap((from) => (sites.get(t.service) ?? []).map((site): [string, string] => [from, cardAt(t.service, site)]))),
  );
  return {
    nodes: [...nodes.values()],
    links: [...links.values()].filter((l) => nodes.has(l.from)).map(({ all: parts, ...l }) => ({ ...l, sums: sumsOf(parts), parts: byVersion(parts) })),
    possible,
  };
}

/** What each version got. */
function byVersion(parts: Part[]): FlowLink["parts"] {
  return [...Map.groupBy(parts.filter((p) => p.version), (p) => p.version)].map(([version, list]) => ({
    version, requests: list.reduce((sum, p) => sum + p.requests, 0), bad: list.reduce((sum, p) => sum + p.bad, 0),
  }));
}
