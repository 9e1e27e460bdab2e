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

/** The requests of a link by the sites of its ends. */
function partsOf(l: Mesh["links"][number]): Part[] {
  if (l.sites) return l.sites;
  const parts = l.versions.map((v) => ({ from: "", to: "", ...v }));
  const [requests, bad] = [l.figures.requests, l.figures.failed + l.figures.refused].map((n, i) => n - parts.reduce((sum, p) => sum + (i ? p.bad : p.requests), 0)) as [number, number];
  return requests > 0 ? [...parts, { from: "", to: "", version: "", requests, bad }] : parts;
}

/** A link between two cards, with all that went that way. */
type LinkOfParts = Pick<FlowLink, "id" | "from" | "to"> & { parts: Part[] };

/** The links between cards, by id. Requests that reached no instance go to the card at their caller's site, or else to the first. */
function linksOf(mesh: Mesh, sites: Map<string, string[]>): Map<string, LinkOfParts> {
  const links = new Map<string, LinkOfParts>();
  for (const l of mesh.links) {
    const [callers, called] = [sites.get(l.from), sites.get(l.to) ?? [""]];
    for (const p of partsOf(l)) {
      const from = cardAt(l.from, !callers || callers.includes(p.from) ? p.from : (callers[0] ?? ""));
      const to = cardAt(l.to, called.includes(p.to) ? p.to : called.includes(p.from) ? p.from : (called[0] ?? ""));
      const id = `${from}~${to}`;
      const link = links.get(id) ?? { id, from, to, parts: [] };
      link.parts.push(p);
      links.set(id, link);
    }
  }
  return links;
}

/**
 * Cards and links of the picture with one card for each service, gateway and caller at each site. Links that had
 * requests since the page was opened stay.
 */
export function flowBySite(mesh: Mesh, seen: Set<string>): Flow {
  const sumsOf = (list: Part[]): Sums =>
    list.reduce((sum, p) => ({ rps: sum.rps + p.requests / mesh.window, requests: sum.requests + p.requests, ok: sum.ok + p.requests - p.bad, bad: sum.bad + p.bad }), nothing);
  const calls = Map.groupBy(mesh.links, (l) => l.to);
  const sites = new Map(mesh.services.map((s) => [s.name, sitesOf(s, (calls.get(s.name) ?? []).flatMap(partsOf))]));
  const links = linksOf(mesh, sites);
  const [into, outOf] = [Map.groupBy(links.values(), (l) => l.to), Map.groupBy(links.values(), (l) => l.from)];
  const nodes = new Map<string, FlowNode>();
  const put = (name: string, band: string, parts: Part[], of: Pick<FlowNode, "kind" | "service" | "gateway">) => {
    const id = cardAt(name, band);
    nodes.set(id, { id, name, band, members: [], sums: sumsOf(parts), p95MS: null, ...of });
  };
  for (const service of mesh.services) {
    for (const site of sites.get(service.name) ?? []) {
      const parts = (into.get(cardAt(service.name, site)) ?? []).flatMap((l) => l.parts);
      put(service.name, site, parts, { kind: "service", service: serviceAt(service, site, parts) });
    }
  }
  const gateways = new Map(mesh.gateways.map((g) => [g.name, gatewaySites(g, outOf.keys())]));
  for (const gateway of mesh.gateways) {
    for (const site of gateways.get(gateway.name) ?? []) put(gateway.name, site, (outOf.get(cardAt(gateway.name, site)) ?? []).flatMap((l) => l.parts), { kind: "gateway", gateway });
  }
  for (const id of links.keys()) seen.add(id);
  for (const id of seen) {
    const [from = "", to = ""] = id.split("~");
    const { name, site } = placeOfCard(from);
    if (!nodes.has(to)) continue;
    if (!nodes.has(from) && !sites.has(name) && !gateways.has(name)) put(name, site, [], { kind: "caller" });
    if (nodes.has(from) && !links.has(id)) links.set(id, { id, from, to, parts: [] });
  }
  const possible = mesh.gateways.flatMap((g) =>
    g.routes.flatMap((r) => r.send).flatMap((t) => (gateways.get(g.name) ?? []).flatMap((at) => (sites.get(t.service) ?? []).map((site): [string, string] => [cardAt(g.name, at), cardAt(t.service, site)]))),
  );
  return {
    nodes: [...nodes.values()],
    links: [...links.values()].filter((l) => nodes.has(l.from)).map((l) => ({ ...l, sums: sumsOf(l.parts), parts: byVersion(l.parts) })),
    possible,
  };
}

/** The sites of the cards of a gateway: where it runs, and where it has called from. */
function gatewaySites(g: Gateway, callers: Iterable<string>): string[] {
  const called = [...callers].map(placeOfCard).flatMap((c) => (c.name === g.name ? [c.site] : []));
  const sites = inOrder([...g.sites, ...called]);
  return sites.length > 0 ? sites : [""];
}

/** What each version got; without what reached none. */
export function byVersion(parts: FlowLink["parts"]): FlowLink["parts"] {
  return [...Map.groupBy(parts.filter((p) => p.version), (p) => p.version)].map(([version, list]) => ({
    version, requests: list.reduce((sum, p) => sum + p.requests, 0), bad: list.reduce((sum, p) => sum + p.bad, 0),
  }));
}
