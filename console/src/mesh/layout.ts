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
  /** Where the bands lie that cards stand in, from top to bottom; empty: there are none. */
  bands: { name: string; y: number; height: number }[];
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
const barMiddle = 22; // of the bar of a lane, below the top of the lane
const space = 30;
const minGap = 96;
const thickest = 42;
/** Height in pixels above which the picture scrolls. */
export const screen = 1100;

/** A card to be set out. Cards with the same band stand side by side. */
interface Sized {
  id: string;
  height: number;
  band?: string;
}

const bandHead = 22; // the name of a band
const bandSpace = 18; // below its cards, and to the next one

/** Sets cards out from left to right by call depth. */
export function planOf(cards: Sized[], edges: [string, string][], links: { id: string; from: string; to: string }[], available: number): Plan {
  const columns = columnsOf(cards.map((c) => c.id), edges);
  const count = Math.max(...columns.values(), 0) + 1;
  const gap = count > 1 ? Math.max(minGap, (available - count * cardWidth) / (count - 1)) : 0;
  // A link that passes a column gets a place there, so that it runs between
  // the cards and not behind one.
  const byColumn: Place[][] = Array.from({ length: count }, () => []);
  const places = new Map<string, Place>();
  const put = (id: string, column: number, height: number, band: string): Place => {
    const place = { id, column, height, band, y: 0, before: [], after: [] };
    places.set(id, place);
    byColumn[column]?.push(place);
    return place;
  };
  for (const c of cards) put(c.id, columns.get(c.id) ?? 0, c.height, c.band ?? "");
  const crowded = links.length > 300; // then they may run behind cards
  const ways = new Map<string, Place[]>();
  for (const link of links) {
    const way: Place[] = [];
    const from = places.get(link.from);
    const to = places.get(link.to);
    if (!from || !to) continue;
    way.push(from);
    if (!crowded) for (let c = from.column + 1; c < to.column; c++) way.push(put(`${link.id}@${c}`, c, thickest - 6, from.band));
    way.push(to);
    ways.set(link.id, way);
    way.slice(1).forEach((p, i) => {
      const before = way[i];
      if (!before || before.column >= p.column) return;
      p.before.push(before);
      before.after.push(p);
    });
  }
  const bands: Plan["bands"] = [];
  let height = 0;
  for (const name of cards.some((c) => c.band) ? [...new Set(cards.map((c) => c.band ?? ""))].sort() : []) {
    const tall = arrange(byColumn.map((column) => column.filter((p) => p.band === name)), height + bandHead);
    bands.push({ name, y: height, height: bandHead + tall + bandSpace / 2 });
    height += bandHead + tall + bandSpace;
  }
  if (bands.length === 0) height = arrange(byColumn, 0);
  const spots = new Map<string, Spot>();
  for (const c of cards) {
    const place = places.get(c.id);
    if (place) spots.set(c.id, { x: place.column * (cardWidth + gap), y: place.y, height: c.height });
  }
  return { spots, ways, width: count * cardWidth + (count - 1) * gap, height, step: cardWidth + gap, bands };
}

/** A part of a ribbon: the requests that end at one lane of a card, or at the card itself. */
interface Part {
  link: FlowLink;
  /** Lane of the version; -1: the card. */
  lane: number;
  thick: number;
  /** Share that failed or was refused. */
  bad: number;
}

/** The parts of a link: one for each version that its requests reached, in the order of the lanes. */
function partsOf(link: FlowLink, thick: number, lanes: string[]): Part[] {
  const known = link.parts.flatMap((p) => (p.requests > 0 && lanes.includes(p.version) ? [{ ...p, lane: lanes.indexOf(p.version) }] : []));
  const all = Math.max(link.sums.requests, known.reduce((sum, p) => sum + p.requests, 0));
  const success = successOf(link.sums);
  const bad = success === null ? 0 : 1 - success;
  if (known.length === 0) return [{ link, lane: -1, thick, bad }];
  const rest = all - known.reduce((sum, p) => sum + p.requests, 0); // what was refused before it reached a version
  const parts = known.map((p): Part => ({ link, lane: p.lane, thick: (thick * p.requests) / all, bad: p.bad / p.requests }));
  return [...parts, ...(rest > 0 ? [{ link, lane: -1, thick: (thick * rest) / all, bad: 1 }] : [])].sort((a, b) => a.lane - b.lane);
}

/** Rounds to half a pixel, so that a ribbon is drawn again only when its change can be seen. */
const inHalves = (n: number): number => Math.round(2 * n) / 2;

/** Sets bands beside each other, with their middle at y: where each begins. */
function stack(list: { thick: number }[], y: number): number[] {
  let at = y - list.reduce((sum, p) => sum + p.thick, 0) / 2;
  return list.map((p) => (at += p.thick) - p.thick);
}

/** Draws the links of a flow on a plan. A ribbon ends at the lanes of the versions that it reaches. */
export function ribbonsOf(flow: Flow, plan: Plan): Ribbon[] {
  const through = new Map<string, number>();
  for (const l of flow.links) {
    through.set(`from ${l.from}`, (through.get(`from ${l.from}`) ?? 0) + l.sums.rps);
    through.set(`to ${l.to}`, (through.get(`to ${l.to}`) ?? 0) + l.sums.rps);
  }
  const most = Math.max(...through.values(), 1);
  const lanes = new Map(flow.nodes.map((n) => [n.id, n.service?.versions.map((v) => v.name) ?? []]));
  const drawn = flow.links.flatMap((link) => {
    const way = plan.ways.get(link.id);
    const thick = link.sums.requests > 0 ? Math.max(1.5, inHalves((link.sums.rps / most) * thickest)) : 1;
    return way ? [{ link, way, thick, parts: partsOf(link, thick, lanes.get(link.to) ?? []) }] : [];
  });
  // Every link leaves a card at a port of its own, and every part enters one at its own.
  const out = new Map<FlowLink, number>();
  for (const [id, list] of Map.groupBy(drawn, (d) => d.link.from)) {
    const spot = plan.spots.get(id);
    if (!spot) continue;
    const sorted = list.sort((a, b) => middle(a.way[1]) - middle(b.way[1]));
    stack(sorted, spot.y + spot.height / 2).forEach((y, i) => sorted[i] && out.set(sorted[i].link, y));
  }
  const into = new Map<Part, number>();
  for (const [id, list] of Map.groupBy(drawn, (d) => d.link.to)) {
    const spot = plan.spots.get(id);
    if (!spot) continue;
    const sorted = list.sort((a, b) => middle(a.way.at(-2)) - middle(b.way.at(-2))).flatMap((d) => d.parts);
    for (const [lane, parts] of Map.groupBy(sorted, (p) => p.lane)) {
      const y = lane < 0 ? spot.y + Math.min(spot.height, headHeight) / 2 : spot.y + headHeight + lane * laneHeight + barMiddle;
      stack(parts, y).forEach((at, i) => parts[i] && into.set(parts[i], at));
    }
  }
  return drawn.map(({ link, way, thick, parts }) => {
    let before = 0;
    const bands = parts.map((part) => {
      const points: Point[] = [];
      way.forEach((p, i) => {
        const x = p.column * plan.step;
        const y = i === 0 ? (out.get(link) ?? 0) + before : i === way.length - 1 ? (into.get(part) ?? 0) : middle(p) - thick / 2 + before;
        if (i > 0) points.push({ x, y });
        if (i < way.length - 1) points.push({ x: x + cardWidth, y });
      });
      before += part.thick;
      const failed = part.bad > 0 ? Math.min(part.thick, Math.max(Math.min(2, part.thick), part.thick * part.bad)) : 0;
      return { points, part, failed };
    });
    const widest = bands.reduce((a, b) => (b.part.thick > a.part.thick ? b : a));
    const [a = { x: 0, y: 0 }, b = a, c] = widest.points;
    const half = widest.part.thick / 2;
    const bad = bands.filter((d) => d.failed > 0);
    return {
      id: link.id, from: link.from, to: link.to, sums: link.sums,
      whole: bands.map((d) => band(d.points, 0, d.part.thick)).join(" "),
      failed: bad.length > 0 ? bad.map((d) => band(d.points, d.part.thick - d.failed, d.part.thick)).join(" ") : null,
      centre: edgeOf(widest.points, half),
      wide: thick >= 4,
      // A link that passes a column has room for its label there.
      label: c ? { x: (b.x + c.x) / 2, y: b.y + half } : { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 + half },
    };
  });
}

/** A card, or a link that passes, in a column. */
interface Place {
  id: string;
  column: number;
  height: number;
  band: string;
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
function arrange(columns: Place[][], top: number): number {
  const heightOf = (column: Place[]) => column.reduce((sum, p) => sum + p.height + space, -space);
  const tallest = Math.max(...columns.map(heightOf), 0);
  // Columns stand in the middle, as long as all of them can be seen at once.
  const stack = (column: Place[]) => {
    let y = top + (tallest > screen ? 0 : (tallest - heightOf(column)) / 2);
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
