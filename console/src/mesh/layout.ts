import type { Figures, Gateway, Mesh, Service } from "../api/client";

/** A card of the picture. */
export interface Node {
  id: string;
  kind: "gateway" | "service" | "caller";
  service?: Service;
  gateway?: Gateway;
  x: number;
  y: number;
  height: number;
}

/** The requests from one card to another; width is their rate. */
export interface Ribbon {
  id: string;
  from: string;
  to: string;
  figures: Figures;
  whole: string;
  /** The lower part, which did not succeed; null when all did. */
  failed: string | null;
  centre: string;
  /** Wide enough to show movement in it. */
  wide: boolean;
  label: { x: number; y: number };
}

export interface Picture {
  nodes: Node[];
  ribbons: Ribbon[];
  width: number;
  height: number;
}

export const cardWidth = 228;
export const headHeight = 54;
export const laneHeight = 34;
const space = 34;
const minGap = 96;
const thickest = 46;

/** Sets the mesh out from left to right by call depth. */
export function layOut(mesh: Mesh, available: number): Picture {
  const nodes = new Map<string, Node>();
  const height = (lanes: number) => headHeight + Math.max(lanes, 0) * laneHeight + (lanes > 0 ? 6 : 0);
  for (const gateway of mesh.gateways) nodes.set(gateway.name, { id: gateway.name, kind: "gateway", gateway, x: 0, y: 0, height: height(0) });
  for (const service of mesh.services) nodes.set(service.name, { id: service.name, kind: "service", service, x: 0, y: 0, height: height(service.versions.length) });
  const links = mesh.links.filter((l) => nodes.has(l.to));
  for (const l of links) {
    if (!nodes.has(l.from)) nodes.set(l.from, { id: l.from, kind: "caller", x: 0, y: 0, height: height(0) });
  }

  // Links that the rules make possible place what has no requests now.
  const edges = new Map<string, Set<string>>();
  const edge = (from: string, to: string) => nodes.has(from) && nodes.has(to) && edges.set(from, (edges.get(from) ?? new Set()).add(to));
  for (const l of links) edge(l.from, l.to);
  for (const g of mesh.gateways) for (const r of g.routes) for (const t of r.send) edge(g.name, t.service);
  const columns = columnsOf([...nodes.keys()], edges);

  const count = Math.max(...columns.values(), 0) + 1;
  const gap = count > 1 ? Math.max(minGap, (available - count * cardWidth) / (count - 1)) : 0;
  const width = count * cardWidth + (count - 1) * gap;
  const flow = new Map<string, { in: number; out: number }>();
  const through = (id: string) => flow.get(id) ?? flow.set(id, { in: 0, out: 0 }).get(id) ?? { in: 0, out: 0 };
  for (const l of links) {
    through(l.from).out += l.figures.rps;
    through(l.to).in += l.figures.rps;
  }
  const most = Math.max(...[...flow.values()].flatMap((f) => [f.in, f.out]), 1);
  const thickness = (rps: number) => Math.max(1.5, (rps / most) * thickest);

  // A link that passes a column gets a place there, so that it runs between
  // the cards and not behind one.
  const byColumn: Place[][] = Array.from({ length: count }, () => []);
  const places = new Map<string, Place>();
  const put = (id: string, column: number, height: number) => {
    const place = { id, column, height, y: 0, before: [], after: [] };
    places.set(id, place);
    byColumn[column]?.push(place);
  };
  for (const n of nodes.values()) put(n.id, columns.get(n.id) ?? 0, n.height);
  const chains = links.map((link) => {
    const t = thickness(link.figures.rps);
    const ids = [link.from];
    for (let c = (columns.get(link.from) ?? 0) + 1; c < (columns.get(link.to) ?? 0); c++) {
      const id = `${link.from}~${link.to}@${c}`;
      put(id, c, Math.ceil(t / 20) * 20 + 8); // in steps, so that cards do not tremble with the rate
      ids.push(id);
    }
    ids.push(link.to);
    return { link, t, places: ids.flatMap((id) => places.get(id) ?? []) };
  });
  for (const { places: chain } of chains) {
    chain.slice(1).forEach((p, i) => {
      const from = chain[i];
      if (!from || from.column >= p.column) return;
      p.before.push(from);
      from.after.push(p);
    });
  }
  const tallest = arrange(byColumn);
  for (const n of nodes.values()) {
    n.x = (columns.get(n.id) ?? 0) * (cardWidth + gap);
    n.y = places.get(n.id)?.y ?? 0;
  }

  // Every chain leaves and enters a card at a port of its own.
  const out = new Map<Chain, number>();
  const into = new Map<Chain, number>();
  for (const n of nodes.values()) {
    const ports = (list: Chain[], where: (c: Chain) => number, kept: Map<Chain, number>) => {
      let y = n.y + n.height / 2 - list.reduce((s, c) => s + c.t, 0) / 2;
      for (const c of list.sort((a, b) => where(a) - where(b))) {
        kept.set(c, y);
        y += c.t;
      }
    };
    ports(chains.filter((c) => c.link.from === n.id), (c) => middle(c.places[1]), out);
    ports(chains.filter((c) => c.link.to === n.id), (c) => middle(c.places.at(-2)), into);
  }
  return {
    nodes: [...nodes.values()],
    width,
    height: tallest,
    ribbons: chains.map((chain) => {
      const { link, t } = chain;
      const points: Point[] = [];
      chain.places.forEach((p, i) => {
        const x = p.column * (cardWidth + gap);
        const y = i === 0 ? (out.get(chain) ?? 0) : i === chain.places.length - 1 ? (into.get(chain) ?? 0) : middle(p) - t / 2;
        if (i > 0) points.push({ x, y });
        if (i < chain.places.length - 1) points.push({ x: x + cardWidth, y });
      });
      const f = link.figures;
      const bad = f.requests > 0 ? (f.failed + f.refused) / f.requests : 0;
      const tf = bad > 0 ? Math.min(t, Math.max(2, t * bad)) : 0;
      const [a = { x: 0, y: 0 }, b = a, c] = points;
      return {
        id: `${link.from}~${link.to}`,
        from: link.from,
        to: link.to,
        figures: f,
        whole: band(points, 0, t),
        failed: tf > 0 ? band(points, t - tf, t) : null,
        centre: edgeOf(points, t / 2),
        wide: t >= 4,
        // A link that passes a column has room for its label there.
        label: c ? { x: (b.x + c.x) / 2, y: b.y + t / 2 } : { x: (a.x + b.x) / 2, y: (a.y + b.y + t) / 2 },
      };
    }),
  };
}

/** A card, or a link that passes, in a column. */
interface Place {
  id: string;
  column: number;
  height: number;
  y: number;
  before: Place[];
  after: Place[];
}

interface Chain {
  link: Mesh["links"][number];
  t: number;
  places: Place[];
}

interface Point {
  x: number;
  y: number;
}

const middle = (p: Place | undefined): number => (p ? p.y + p.height / 2 : 0);

/**
 * Orders every column by where its neighbours stand, in some sweeps to and fro
 * (K. Sugiyama, S. Tagawa and M. Toda, "Methods for Visual Understanding of
 * Hierarchical System Structures", 1981). It looks at who calls whom alone and
 * not at rates, so that cards keep their places. Returns the height.
 */
function arrange(columns: Place[][]): number {
  const heightOf = (column: Place[]) => column.reduce((sum, p) => sum + p.height + space, -space);
  const tallest = Math.max(...columns.map(heightOf), 0);
  const stack = (column: Place[]) => {
    let y = (tallest - heightOf(column)) / 2;
    for (const p of column) {
      p.y = y;
      y += p.height + space;
    }
  };
  const sortBy = (column: Place[], neighbours: (p: Place) => Place[]) => {
    const pull = new Map(column.map((p) => [p, neighbours(p).length ? neighbours(p).reduce((s, n) => s + middle(n), 0) / neighbours(p).length : middle(p)]));
    column.sort((a, b) => (pull.get(a) ?? 0) - (pull.get(b) ?? 0) || a.id.localeCompare(b.id));
    stack(column);
  };
  for (const column of columns) column.sort((a, b) => a.id.localeCompare(b.id));
  columns.forEach(stack);
  for (let sweep = 0; sweep < 4; sweep++) {
    for (const column of columns) sortBy(column, (p) => p.before);
    for (const column of [...columns].reverse()) sortBy(column, (p) => p.after);
  }
  return tallest;
}

/** The column of every node: one more than that of its last caller. */
function columnsOf(ids: string[], edges: Map<string, Set<string>>): Map<string, number> {
  const columns = new Map(ids.map((id) => [id, 0]));
  const visit = (id: string, path: Set<string>) => {
    if (path.has(id)) return; // a circle of calls
    path.add(id);
    for (const to of edges.get(id) ?? []) {
      if (!path.has(to) && (columns.get(to) ?? 0) < (columns.get(id) ?? 0) + 1) {
        columns.set(to, (columns.get(id) ?? 0) + 1);
        visit(to, path);
      }
    }
    path.delete(id);
  };
  for (const id of ids) visit(id, new Set());
  return columns;
}

/** A line through points: curves between columns, straight across them. */
function edgeOf(points: Point[], dy: number, back = false): string {
  const list = back ? [...points].reverse() : points;
  return list
    .map((p, i) => {
      const last = list[i - 1];
      if (!last) return `${back ? "L" : "M"}${p.x},${p.y + dy}`;
      const m = (last.x + p.x) / 2;
      return `C${m},${last.y + dy} ${m},${p.y + dy} ${p.x},${p.y + dy}`;
    })
    .join(" ");
}

function band(points: Point[], top: number, bottom: number): string {
  return `${edgeOf(points, top)} ${edgeOf(points, bottom, true)} Z`;
}
