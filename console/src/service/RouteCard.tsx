import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useCallback, useState } from "react";
import { Link } from "wouter";
import { api, basedOn, take, words, type EffectRow, type Mesh, type Published, type Route } from "../api/client";
import { useMesh } from "../api/live";
import { Preview } from "../change/Preview";
import { PublishedNotice } from "../change/PublishedNotice";
import { Confirm } from "../kit/Confirm";
import { useMay, useOwns } from "../kit/For";
import { millis, percent, rate } from "../kit/format";
import { Place } from "../kit/Place";
import { type } from "../kit/theme";
import { useVersionFill } from "../kit/versions";
import { VersionMark } from "../kit/VersionMark";
import { withWeight, WeightBar, weightText, type Share } from "./WeightBar";

interface Props {
  route: Route;
  number: number;
  /** Service or gateway whose route it is. */
  parent: string;
  /** On a gateway weights can be changed in files only. */
  isGateway?: boolean;
  versions: string[];
  revision: number;
  /** The running release that changes its weights, or added it. */
  release?: Mesh["releases"][number] | undefined;
  /** Opens the form of the route. */
  onEdit?: () => void;
  /** Writes weights, in percent, into the draft of the rule files, beside other changes. */
  onDraft?: (weights: Record<string, number>) => Promise<void>;
}

interface Weight {
  target: string;
  /** In thousandths of a percent. */
  weight: number;
}

const asWeight = (text: string): number => Math.round(Number(text) * 1000);

/** Which groups of requests a change of these weights can touch. */
const touches = (service: string, route: string) => (r: EffectRow): boolean =>
  r.kind === "mesh" || (r.kind === "service" && r.name === service) || (r.kind === "caller" && r.name !== service) ||
  (r.kind === "version" && r.name.startsWith(`${service}/`)) || (r.kind === "route" && r.name === `${service}/${route}`);

/** One route with its weights, and the observed shares. */
export function RouteCard({ route, number, parent, isGateway = false, versions, revision, release, onEdit, onDraft }: Props) {
  const isCohort = release?.cohorts.some((p) => p.route === route.name) ?? false;
  const isMine = useOwns(useMesh(useCallback((mesh: Mesh | null) => mesh?.services.find((s) => s.name === parent)?.team ?? "", [parent])));
  const isEditor = useMay("editor") && isMine;
  const canChange = isEditor && !isGateway && !isCohort;
  // A draft belongs to the revision that it is based on; on another one the service rejects it.
  const [draft, setDraft] = useState<{ weights: Weight[]; revision: number } | null>(null);
  const [message, setMessage] = useState("");
  const [busy, setBusy] = useState(false);
  const [asked, setAsked] = useState("");
  const [outcome, setOutcome] = useState<{ published?: Published; error?: string } | null>(null);
  const fills = useFills(parent, route);
  const inForce: Weight[] = route.send.map((t) => ({ target: t.target, weight: asWeight(t.weight) }));
  const weights = draft?.weights ?? inForce;
  const shares = weights.map((w): Share => ({ ...w, fill: fills(w.target) }));
  const absent = canChange ? versions.filter((v) => !weights.some((s) => s.target === v)) : [];
  const direct = route.send.length === 0 ? route.settings.find((d) => d.name === "redirect" || d.name === "reply") : undefined;
  const isChanged = draft !== null && draft.weights.some((s) => (inForce.find((f) => f.target === s.target)?.weight ?? 0) !== s.weight);
  const change = (next: Weight[]) => {
    setDraft({ weights: next, revision: draft?.revision ?? revision });
    setOutcome(null);
  };
  const setAll = (next: number[]) => change(weights.map((w, i) => ({ ...w, weight: next[i] ?? 0 })));
  const discard = () => {
    setDraft(null);
    setOutcome(null);
  };

  const sent = weights.filter((s) => s.weight > 0 || inForce.some((f) => f.target === s.target)).map((s) => ({ target: s.target, weight: weightText(s.weight) }));
  const publish = async () => {
    if (!draft) return;
    setBusy(true);
    try {
      const body = { route: route.name, weights: sent, ...(message ? { message } : {}) };
      setOutcome({ published: await take(api.POST("/api/v1/services/{service}/split", { params: { path: { service: parent }, header: basedOn(draft.revision) }, body })) });
      setDraft(null);
      setMessage("");
    } catch (e) {
      setOutcome({ error: words(e) });
    } finally {
      setBusy(false);
    }
  };

  const keep = async () => {
    setBusy(true);
    try {
      await onDraft?.(Object.fromEntries(sent.map((s) => [s.target, Number(s.weight)])));
      discard();
    } catch (e) {
      setOutcome({ error: words(e) });
    } finally {
      setBusy(false);
    }
  };

  return (
    <Box component="li" id={`route-${route.name}`} sx={{ display: "flex", gap: 1.5, listStyle: "none" }} data-test={`route-${route.name}`}>
      <Rung number={number} />
      <Paper variant="outlined" sx={{ flex: 1, minWidth: 0, p: 1.5, mb: 1.5 }}>
        <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
          <Box component="h2" sx={{ typography: "h3", m: 0 }}>{route.name}</Box>
          {route.team && <Box sx={{ color: "text.secondary" }} data-test={`team-${route.name}`}>of team {route.team}</Box>}
          <Box sx={{ color: "text.secondary", flex: 1, minWidth: 200 }}>{route.when.length ? route.when.join("; or ") : "every other request"}</Box>
          <Box sx={{ fontWeight: 600 }}>{route.figures.requests > 0 ? `${percent(route.share)} of requests, ${rate(route.figures.rps)}/s` : "no requests"}</Box>
          {onEdit && !isCohort && <Button onClick={onEdit} data-test={`edit-${route.name}`} sx={{ minHeight: 24, py: 0 }}>Edit</Button>}
        </Box>
        {release && (
          <Box sx={{ mt: 0.5, color: "warning.main" }} data-test={`release-${route.name}`}>
            ⇥ Release <Link to={`/releases/${release.number}`} style={{ color: "inherit" }}>{release.name}</Link> {isCohort ? "added this route for its cohort; it is in no file." : `changes these weights from ${release.from} to ${release.to}; publishing other weights withdraws it.`}
          </Box>
        )}
        {direct ? (
          <Box sx={{ my: 1 }}>direct response: <strong>{direct.name}</strong> {direct.value}</Box>
        ) : (
          <Box sx={{ my: 1.5, mx: 1 }}>
            <WeightBar shares={shares} {...(canChange && shares.length > 1 ? { onChange: setAll } : {})} />
            <Box sx={{ mt: 0.75 }}>
              <WeightBar height={5} shares={route.send.map((t) => ({ target: t.target, fill: fills(t.target), weight: (t.observed ?? 0) * 100_000 }))} />
            </Box>
          </Box>
        )}
        <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 3, rowGap: 0.5, alignItems: "center" }}>
          {weights.map((s, i) => {
            const to = route.send.find((t) => t.target === s.target);
            return (
              <Box key={s.target} sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", minWidth: 0 }} data-test={`share-${s.target}`}>
                <VersionMark service={to?.service ?? parent} version={to ? to.version : s.target} />
                <Box component="span" sx={{ minWidth: 0, overflowWrap: "anywhere" }}><strong>{s.target}</strong> {canChange && weights.length > 1 ? <WeightField target={s.target} weight={s.weight} onSet={(w) => setAll(withWeight(weights.map((x) => x.weight), i, w))} /> : `${weightText(s.weight)}%`}</Box>
                <Box component="span" sx={{ color: "text.secondary", ml: 1 }}>observed {percent(to?.observed)}</Box>
              </Box>
            );
          })}
          {!direct && absent.map((v) => <Button key={v} onClick={() => change([...weights, { target: v, weight: 0 }])}>Add {v}</Button>)}
          <Settings route={route} direct={direct} />
        </Box>
        {draft && (
          <>
            <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1.5, alignItems: "center" }}>
              <TextField label="Message" value={message} onChange={(e) => setMessage(e.target.value)} sx={{ flex: 1, minWidth: 220 }} />
              <Button variant="contained" disabled={!isChanged || busy} onClick={() => void publish()} data-test="publish">Publish on revision {draft.revision}</Button>
              {onDraft && <Button variant="outlined" disabled={!isChanged || busy} onClick={() => void keep()} data-test="weights-to-draft">Write into my draft</Button>}
              <Button onClick={() => (isChanged ? setAsked("Discard") : discard())}>Discard</Button>
            </Box>
            <Preview disabled={!isChanged} body={{ split: { service: parent, route: route.name, weights: sent } }} only={touches(parent, route.name)} />
          </>
        )}
        {draft && draft.revision !== revision && (
          <Alert severity="warning" sx={{ mt: 1 }} data-test="overtaken">
            Revision {revision} was published meanwhile. Discard your change, look at what it changed, and start again.
          </Alert>
        )}
        {outcome?.error && <Alert severity="error" sx={{ mt: 1 }} data-test="refused">{outcome.error}</Alert>}
        {outcome?.published && <PublishedNotice published={outcome.published} />}
        <Confirm act={asked} of={`the new weights of ${route.name}`} onClose={() => setAsked("")} onGo={discard}>The weights in force stay as they are.</Confirm>
      </Paper>
    </Box>
  );
}

/** The fill of each target: that of its version, or of plain flow for a target without one. */
function useFills(parent: string, route: Route) {
  const own = useVersionFill(parent);
  const first = route.send.find((t) => t.service !== parent)?.service ?? parent;
  const other = useVersionFill(first);
  return (target: string) => {
    const to = route.send.find((t) => t.target === target);
    if (!to) return own(target);
    return (to.service === parent ? own : other)(to.version);
  };
}

function Rung({ number }: { number: number }) {
  return (
    <Box sx={{ width: 26, display: { xs: "none", sm: "flex" }, flexDirection: "column", alignItems: "center" }} aria-hidden>
      <Box sx={{ width: 26, height: 26, borderRadius: "50%", border: 2, borderColor: "divider", display: "grid", placeItems: "center", fontWeight: 650, mt: 1 }}>{number}</Box>
      <Box sx={{ flex: 1, width: 2, bgcolor: "divider" }} />
    </Box>
  );
}

/** The weight of a target as a number; it takes effect on Enter, or when the field loses focus. */
function WeightField({ target, weight, onSet }: { target: string; weight: number; onSet: (weight: number) => void }) {
  const [typed, setTyped] = useState<string | null>(null);
  const done = () => {
    const value = Number(typed?.replace(",", ".").replace("%", ""));
    if (typed !== null && typed.trim() !== "" && Number.isFinite(value)) onSet(Math.round(value * 1000));
    setTyped(null);
  };
  return (
    <>
      <Box
        component="input" inputMode="decimal" aria-label={`Weight of ${target} in percent`} data-test={`weight-${target}`} value={typed ?? weightText(weight)}
        onChange={(e: React.ChangeEvent<HTMLInputElement>) => setTyped(e.target.value)} onBlur={done} onKeyDown={(e: React.KeyboardEvent) => { if (e.key === "Enter") done(); }}
        sx={{ font: "inherit", fontSize: type.body, width: 52, height: 24, textAlign: "right", px: 0.5, border: 1, borderColor: "divider", borderRadius: 0.5, bgcolor: "background.paper", color: "text.primary" }}
      />
%
    </>
  );
}

/** Figures and settings of a route, each with the place where it is written. */
function Settings({ route, direct }: { route: Route; direct: Route["settings"][number] | undefined }) {
  return (
    <Box sx={{ ml: "auto", color: "text.secondary", fontSize: type.small }}>
      {route.figures.requests > 0 && `success ${percent(route.figures.success)}, p95 ${millis(route.figures.p95MS)}; `}
      {route.timeout && `timeout ${route.timeout}; `}
      {route.settings.filter((d) => d !== direct).map((d) => (
        <span key={d.name} title={d.from}>{d.name} {d.value} <Place at={d.at} />; </span>
      ))}
      <Place at={route.at} />
    </Box>
  );
}
