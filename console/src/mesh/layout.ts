import { successOf, type Flow, type FlowLink, type Sums } from "./flow";

/** Position of a card. */
export interface Spot {
  x: number;
  y: number;
  height: number;
}

/** Positions of all cards. They depend on who calls whom, not on rates. */
export interface Plan {
  spots: Map<string, Spot>;
  /** For every link the places that it passes, from card to card. */
  ways: Map<string, Place[]>;
  width: number;
  height: number;
  step: number; // from one column to the next
}

/** The requests from one card to another; width is their rate. */
export interface Ribbon {
  id: string;
  from: string;
  to: string;
  sums: Sums;
  whole: string;
  /** The lower part, which did not succeed; null when all did. */
  failed: string | null;
  centre: string;
  /** Wide enough to show movement in it. */
  wide: boolean;
  label: { x: number; y: number };
}

export const cardWidth = 228;
export const headHeight = 54;
export const laneHeight = 34;
export const siteHeight = 16;
const space = 30;
const minGap = 96;
const thickest = 42;
/** Height in pixels above which the picture scrolls. */
export const screen = 1100;

/** Sets cards out from left to right by call depth. */
export function planOf(cards: { id: string; height: number }[], edges: [string, string][], links: { id: string; from: string; to: string }[], available: number): Plan {
  const columns = columnsOf(cards.map((c) => c.id), edges);
  const count = Math.max(...columns.values(), 0) + 1;
  const gap = count > 1 ? Math.max(minGap, (available - count * cardWidth) / (count - 1)) : 0;
  // A link that passes a column gets a place there, so that it runs between
  // the cards and not behind one.
  const byColumn: Place[][] = Array.from({ length: count }, () => []);
  const places = new Map<string, Place>();
  const put = (id: string, column: number, height: number): Place => {
    const place = { id, column, height, y: 0, before: [], after: [] };
    places.set(id, place);
    byColumn[column]?.push(place);
    return place;
  };
  for (const c of cards) put(c.id, columns.get(c.id) ?? 0, c.height);
  const crowded = links.length > 300; // then they may run behind cards
  const ways = new Map<string, Place[]>();
  for (const link of links) {
    const way: Place[] = [];
    const from = places.get(link.from);
    const to = places.get(link.to);
    if (!from || !to) continue;
    way.push(from);
    if (!crowded) for (let c = from.column + 1; c < to.column; c++) way.push(put(`${link.id}@${c}`, c, thickest - 6));
    way.push(to);
    ways.set(link.id, way);
    way.slice(1).forEach((p, i) => {
      const before = way[i];
      if (!before || before.column >= p.column) return;
      p.before.push(before);
      before.after.push(p);
    });
  }
  const height = arrange(byColumn);
  const spots = new Map<string, Spot>();
  for (const c of cards) {
    const place = places.get(c.id);
    if (place) spots.set(c.id, { x: place.column * (cardWidth + gap), y: place.y, height: c.height });
  }
  return { spots, ways, width: count * cardWidth + (count - 1) * gap, height, step: cardWidth + gap };
}

/** Draws the links of a flow on a plan. */
export function ribbonsOf(flow: Flow, plan: Plan): Ribbon[] {
  const through = new Map<string, number>();
  for (const l of flow.links) {
    through.set(`from ${l.from}`, (through.get(`from ${l.from}`) ?? 0) + l.sums.rps);
    through.set(`to ${l.to}`, (through.get(`to ${l.to}`) ?? 0) + l.sums.rps);
  }
  const most = Math.max(...through.values(), 1);
  const drawn = flow.links.flatMap((link) => {
    const way = plan.ways.get(link.id);
    return way ? [{ link, way, t: link.sums.requests > 0 ? Math.max(1.5, (link.sums.rps / most) * thickest) : 1 }] : [];
  });
  // Every link leaves and enters a card at a port of its own.
  const out = new Map<FlowLink, number>();
  const into = new Map<FlowLink, number>();
  const group = (end: "from" | "to") => Map.groupBy(drawn, (d) => d.link[end]);
  const ports = (list: typeof drawn, spot: Spot | undefined, where: (d: (typeof drawn)[number]) => number, kept: Map<FlowLink, number>) => {
    if (!spot) return;
    let y = spot.y + spot.height / 2 - list.reduce((s, d) => s + d.t, 0) / 2;
    for (const d of list.sort((a, b) => where(a) - where(b))) {
      kept.set(d.link, y);
      y += d.t;
    }
  };
  for (const [id, list] of group("from")) ports(list, plan.spots.get(id), (d) => middle(d.way[1]), out);
  for (const [id, list] of group("to")) ports(list, plan.spots.get(id), (d) => middle(d.way.at(-2)), into);
  return drawn.map(({ link, way, t }) => {
    const points: Point[] = [];
    way.forEach((p, i) => {
      const x = p.column * plan.step;
      const y = i === 0 ? (out.get(link) ?? 0) : i === way.length - 1 ? (into.get(link) ?? 0) : middle(p) - t / 2;
      if (i > 0) points.push({ x, y });
      if (i < way.length - 1) points.push({ x: x + cardWidth, y });
    });
    const success = successOf(link.sums);
    const bad = success === null ? 0 : 1 - success;
    const tf = bad > 0 ? Math.min(t, Math.max(2, t * bad)) : 0;
    const [a = { x: 0, y: 0 }, b = a, c] = points;
    return {
      id: link.id, from: link.from, to: link.to, sums: link.sums,
      whole: band(points, 0, t),
      failed: tf > 0 ? band(points, t - tf, t) : null,
      centre: edgeOf(points, t / 2),
      wide: t >= 4,
      // A link that passes a column has room for its label there.
      label: c ? { x: (b.x + c.x) / 2, y: b.y + t / 2 } : { x: (a.x + b.x) / 2, y: (a.y + b.y + t) / 2 },
    };
  });
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

interface Point {
  x: number;
  y: number;
}

const middle = (p: Place | undefined): number => (p ? p.y + p.height / 2 : 0);

/**
 * Orders every column by where its neighbours stand, in some sweeps to and fro
 * (K. Sugiyama, S. Tagawa and M. Toda, "Methods for Visual Understanding of
 * Hierarchical System Structures", 1981). Returns the height.
 */
function arrange(columns: Place[][]): number {
  const heightOf = (column: Place[]) => column.reduce((sum, p) => sum + p.height + space, -space);
  const tallest = Math.max(...columns.map(heightOf), 0);
  // Columns stand in the middle, as long as all of them can be seen at once.
  const stack = (column: Place[]) => {
    let y = tallest > screen ? 0 : (tallest - heightOf(column)) / 2;
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

/** The column of every card: one more than that of its last caller. Calls that close a cycle do not count. */
function columnsOf(ids: string[], edges: [string, string][]): Map<string, number> {
  const next = new Map<string, string[]>(ids.map((id) => [id, []]));
  for (const [from, to] of edges) if (next.has(to)) next.get(from)?.push(to);
  for (const list of next.values()) list.sort();
  const state = new Map<string, "open" | "done">();
  const order: string[] = []; // a card after all that it calls
  const kept: [string, string][] = [];
  const visit = (id: string) => {
    state.set(id, "open");
    for (const to of next.get(id) ?? []) {
      if (state.get(to) === "open") continue;
      kept.push([id, to]);
      if (!state.has(to)) visit(to);
    }
    state.set(id, "done");
    order.push(id);
  };
  const called = new Set(edges.map(([, to]) => to));
  for (const id of [...ids].sort((a, b) => Number(called.has(a)) - Number(called.has(b)) || a.localeCompare(b))) if (!state.has(id)) visit(id);
  const columns = new Map(ids.map((id) => [id, 0]));
  const byCaller = Map.groupBy(kept, ([from]) => from);
  for (const id of order.reverse()) {
    for (const [, to] of byCaller.get(id) ?? []) columns.set(to, Math.max(columns.get(to) ?? 0, (columns.get(id) ?? 0) + 1));
  }
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
