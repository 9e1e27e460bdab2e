import { memo } from "react";
import type { Service } from "../api/client";
import { millis, percent, plural, rate } from "../kit/format";
import { useVersionFill } from "../kit/versions";
import { successOf, type FlowNode } from "./flow";
import { headHeight, laneHeight, siteHeight, type Spot } from "./layout";

const callerNames: Record<string, string> = { nightjar: "Nightjar" };

/** The text on a card. The card is drawn again only when it changes. */
interface CardText {
  id: string;
  name: string;
  title: string;
  kind: FlowNode["kind"];
  note: string;
  rate: string;
  success: string;
  isFailing: boolean;
  p95: string;
  lanes: { name: string; count: number; observed: number | null; intended: number | null }[];
  sites: { name: string; share: number }[];
  isDashed: boolean;
}

/** Share of the requests of a service by site. */
function sites(s: Service): CardText["sites"] {
  const sums = new Map<string, number>();
  for (const i of s.versions.flatMap((v) => v.instances)) if (i.site) sums.set(i.site, (sums.get(i.site) ?? 0) + i.figures.requests);
  const all = [...sums.values()].reduce((a, b) => a + b, 0);
  return [...sums].sort(([a], [b]) => a.localeCompare(b)).map(([name, n]) => ({ name, share: all > 0 ? n / all : 1 / sums.size }));
}

export function textOf(n: FlowNode): CardText {
  const success = successOf(n.sums);
  const note =
    n.kind === "gateway" ? (n.gateway?.isRunning ? "gateway" : "gateway, no proxy") : n.kind === "caller" ? "caller" : n.kind === "group" ? plural(n.members.length, "service") : n.service?.isOutside ? "outside" : n.service?.isDeclared ? "" : "not in the rules";
  return {
    id: n.id, name: n.name, title: callerNames[n.name] ?? n.name, kind: n.kind, note,
    rate: n.kind === "caller" ? "" : `${rate(n.sums.rps)}/s`,
    success: n.kind === "caller" ? "" : n.sums.requests > 0 ? `${percent(success)} ok` : "no requests",
    isFailing: success !== null && success < 0.99,
    p95: n.p95MS === null ? "" : `p95 ${millis(n.p95MS)}`,
    lanes: n.service?.versions.map((v) => ({ name: v.name, count: v.instances.length, observed: v.observed && Math.round(v.observed * 1000) / 1000, intended: v.intended && Math.round(v.intended * 1000) / 1000 })) ?? [],
    sites: n.service ? sites(n.service).map((s) => ({ ...s, share: Math.round(s.share * 100) / 100 })) : [],
    isDashed: n.service?.isOutside === true || n.kind === "caller",
  };
}

export function heightOf(n: FlowNode): number {
  const lanes = n.service?.versions.length ?? 0;
  const sited = n.service?.versions.some((v) => v.instances.some((i) => i.site)) ? siteHeight : 0;
  return headHeight + lanes * laneHeight + (lanes > 0 ? 6 : 0) + sited;
}

interface Props {
  text: CardText;
  spot: Spot;
  chosen: boolean;
  faded: boolean;
  onChoose: (id: string) => void;
}

/** A service, a gateway, a caller or a group, with the versions as lanes. Its looks are in MeshPage. */
export const Card = memo(
  function Card({ text: w, spot, chosen, faded, onChoose }: Props) {
    const fill = useVersionFill(w.name);
    const state = [w.kind, chosen ? "chosen" : "", faded ? "faded" : "", w.isFailing ? "failing" : "", w.isDashed ? "dashed" : ""].join(" ");
    return (
      <button
        type="button" className={`card ${state}`} data-test={`card-${w.id}`} aria-pressed={chosen} onClick={() => onChoose(w.id)}
        style={{ left: spot.x, top: spot.y, height: spot.height }}
      >
        <span className="top"><b>{w.title}</b><i>{w.rate}</i></span>
        <span className="under"><span className="success">{w.isFailing && "▼ "}{w.note && `${w.note}${w.success && ": "}`}{w.success}</span><span>{w.p95}</span></span>
        {w.lanes.map((l) => (
          <span className="lane" data-test="lane" key={l.name}>
            <span className="name">
              <span>{l.name}{l.count !== 1 && <em className={l.count ? "" : "none"}> ×{l.count}</em>}</span>
              <span className="share"><b>{percent(l.observed)}</b>{l.intended !== null && ` of ${percent(l.intended)}`}</span>
            </span>
            <span className="bar">
              <span className="got" style={{ width: `${100 * (l.observed ?? 0)}%`, ...fill(l.name) }} />
              {l.intended !== null && <span className="mark" style={{ left: `calc(${100 * l.intended}% - 1px)` }} />}
            </span>
          </span>
        ))}
        {w.sites.length > 0 && (
          <span className="sites">
            {w.sites.map((s) => <span key={s.name} style={{ flexGrow: Math.max(0.12, s.share) }} title={`${s.name}: ${percent(s.share)} of the requests`}>{s.name}</span>)}
          </span>
        )}
      </button>
    );
  },
  (a, b) => a.chosen === b.chosen && a.faded === b.faded && a.onChoose === b.onChoose && a.spot.x === b.spot.x && a.spot.y === b.spot.y && a.spot.height === b.spot.height && JSON.stringify(a.text) === JSON.stringify(b.text),
);
