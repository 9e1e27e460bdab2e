import type { Figures, Gateway, Link, Mesh, Service } from "../api/client";

/** How services are grouped: one card each, or one per owner, site or label value. */
export type By = string; // "service", "owner", "site", or "label KEY"

/** Figures that can be added; percentiles cannot, so a group has none. */
export interface Sums {
  rps: number;
  requests: number;
  ok: number;
  bad: number;
}

export interface FlowNode {
  id: string;
  name: string;
  /** The site whose band the card stands in; empty: none. */
  band: string;
  kind: "gateway" | "service" | "caller" | "group";
  service?: Service;
  gateway?: Gateway;
  /** Services of a group. */
  members: string[];
  sums: Sums;
  /** null: there are no requests, or it is of several groups. */
  p95MS: number | null;
}

export interface FlowLink {
  id: string;
  from: string;
  to: string;
  sums: Sums;
  /** What each version of the called service got; empty where a group is called. */
  parts: Link["versions"];
}

export interface Flow {
  nodes: FlowNode[];
  links: FlowLink[];
  /** Links that the rules allow. They place cards without requests. */
  possible: [string, string][];
}

/** Above this number of services they are grouped by owner by default. */
export const crowd = 40;

const p95Of = (f: Figures): number | null => (f.requests > 0 ? f.p95MS : null);

const sumsOf = (f: Figures): Sums => ({ rps: f.rps, requests: f.requests, ok: f.ok, bad: f.failed + f.refused });

function plus(a: Sums, b: Sums): Sums {
  return { rps: a.rps + b.rps, requests: a.requests + b.requests, ok: a.ok + b.ok, bad: a.bad + b.bad };
}

export const nothing: Sums = { rps: 0, requests: 0, ok: 0, bad: 0 };

export const successOf = (s: Sums): number | null => (s.requests > 0 ? s.ok / s.requests : null);

/** The ways to group the services of a mesh. */
export function waysToGroup(mesh: Mesh): By[] {
  const keys = new Set(mesh.services.flatMap((s) => Object.keys(s.labels ?? {})));
  return [
    "service",
    ...(mesh.services.some((s) => s.owner) ? ["owner"] : []),
    ...(mesh.services.some((s) => s.versions.some((v) => v.instances.some((i) => i.site))) ? ["site"] : []),
    ...[...keys].sort().map((k) => `label ${k}`),
  ];
}

const sitesOf = (s: Service): string[] => [...new Set(s.versions.flatMap((v) => v.instances.map((i) => i.site ?? "")))].filter(Boolean).sort();

/** The group that a service belongs to; empty: it has a card of its own. */
export function groupOf(s: Service, by: By): string {
  if (by === "owner") return s.owner ?? "no owner";
  if (by === "site") return sitesOf(s).join(" and ") || "no site";
  const key = by.startsWith("label ") ? by.slice(6) : "";
  return key ? `${key}: ${s.labels?.[key] ?? "none"}` : "";
}

/**
 * Cards and links of the picture. Links that had requests since the page was opened
 * stay, so that cards keep their places.
 */
export function flowOf(mesh: Mesh, seen: Set<string>, by: By, open: Set<string>): Flow {
  const home = new Map<string, string>(); // service → card
  const nodes = new Map<string, FlowNode>();
  for (const gateway of mesh.gateways) nodes.set(gateway.name, { id: gateway.name, name: gateway.name, band: "", kind: "gateway", gateway, members: [], sums: sumsOf(gateway.figures), p95MS: p95Of(gateway.figures) });
  for (const service of mesh.services) {
    const group = groupOf(service, by);
    if (!group || open.has(group)) {
      home.set(service.name, service.name);
      nodes.set(service.name, { id: service.name, name: service.name, band: "", kind: "service", service, members: [], sums: sumsOf(service.figures), p95MS: p95Of(service.figures) });
      continue;
    }
    home.set(service.name, group);
    const card = nodes.get(group) ?? { id: group, name: group, band: "", kind: "group" as const, members: [], sums: nothing, p95MS: null };
    nodes.set(group, { ...card, members: [...card.members, service.name], sums: plus(card.sums, sumsOf(service.figures)) });
  }
  const links = new Map<string, FlowLink>();
  const add = (caller: string, called: string, sums: Sums, parts: Link["versions"] = []) => {
    const to = home.get(called);
    if (!to) return;
    const from = home.get(caller) ?? caller;
    if (from === to && from !== caller) return; // inside a group
    if (!nodes.has(from)) nodes.set(from, { id: from, name: from, band: "", kind: "caller", members: [], sums: nothing, p95MS: null });
    const id = `${from}~${to}`;
    links.set(id, { id, from, to, sums: plus(links.get(id)?.sums ?? nothing, sums), parts: to === called && parts.length > 0 ? parts : (links.get(id)?.parts ?? []) });
  };
  for (const l of mesh.links) {
    seen.add(`${l.from}~${l.to}`);
    add(l.from, l.to, sumsOf(l.figures), l.versions);
  }
  for (const id of seen) {
    const [from = "", to = ""] = id.split("~");
    add(from, to, nothing);
  }
  const possible: [string, string][] = [];
  for (const g of mesh.gateways) {
    for (const t of g.routes.flatMap((r) => r.send)) {
      const to = home.get(t.service);
      if (to) possible.push([g.name, to]);
    }
  }
  return { nodes: [...nodes.values()], links: [...links.values()], possible };
}
