import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { Link } from "react-router";
import { split, type Mesh, type Published, type Route } from "../api/client";
import { Preview } from "../effects/Preview";
import { millis, percent, rate } from "../parts/format";
import { PublishedNotice } from "../parts/PublishedNotice";
import { laneFill, laneIndex, useLaneColour } from "../parts/lanes";
import { WeightBar, weightText, type Share } from "./WeightBar";

interface Props {
  route: Route;
  number: number;
  /** Service whose route it is; absent on a gateway, whose weights can be changed in files only. */
  service?: string;
  versions: string[];
  revision: number;
  /** The running release that changes its weights, or added it. */
  release?: Mesh["releases"][number] | undefined;
}

const asWeight = (text: string): number => Math.round(Number(text) * 1000);

/** One route with its weights, and the observed shares. */
export function RouteCard({ route, number, service: home, versions, revision, release }: Props) {
  const cohort = release?.cohorts.some((p) => p.route === route.name) ?? false;
  const service = cohort ? undefined : home;
  // A draft belongs to the revision that it is based on; on another one the service rejects it.
  const [draft, setDraftAt] = useState<{ shares: Share[]; revision: number } | null>(null);
  const setDraft = (shares: Share[] | null) => setDraftAt(shares && { shares, revision: draft?.revision ?? revision });
  const [message, setMessage] = useState("");
  const [busy, setBusy] = useState(false);
  const [outcome, setOutcome] = useState<{ published?: Published; error?: string } | null>(null);
  const colour = useLaneColour();
  const inForce: Share[] = route.send.map((t) => ({ target: t.target, lane: laneIndex(versions, t.version ?? t.target), weight: asWeight(t.weight) }));
  const shares = draft?.shares ?? inForce;
  const absent = service ? versions.filter((v) => !shares.some((s) => s.target === v)) : [];
  const direct = route.send.length === 0 ? route.settings.find((d) => d.name === "redirect" || d.name === "reply") : undefined;
  const changed = draft !== null && draft.shares.some((s) => (inForce.find((f) => f.target === s.target)?.weight ?? 0) !== s.weight);

  const weights = shares.filter((s) => s.weight > 0 || inForce.some((f) => f.target === s.target)).map((s) => ({ target: s.target, weight: weightText(s.weight) }));
  const publish = async () => {
    if (!service || !draft) return;
    setBusy(true);
    try {
      setOutcome({ published: await split(service, { route: route.name, weights, author: "console", ...(message ? { message } : {}) }, draft.revision) });
      setDraft(null);
      setMessage("");
    } catch (e) {
      setOutcome({ error: e instanceof Error ? e.message : String(e) });
    } finally {
      setBusy(false);
    }
  };

  return (
    <Box component="li" sx={{ display: "flex", gap: 1.5, listStyle: "none" }} data-test={`route-${route.name}`}>
      <Box sx={{ width: 26, display: "flex", flexDirection: "column", alignItems: "center" }} aria-hidden>
        <Box sx={{ width: 26, height: 26, borderRadius: "50%", border: 2, borderColor: "divider", display: "grid", placeItems: "center", fontWeight: 650, mt: 1 }}>{number}</Box>
        <Box sx={{ flex: 1, width: 2, bgcolor: "divider" }} />
      </Box>
      <Paper variant="outlined" sx={{ flex: 1, minWidth: 0, p: 1.5, mb: 1.25 }}>
        <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
          <Box component="strong">{route.name}</Box>
          <Box sx={{ color: "text.secondary", flex: 1, minWidth: 200 }}>{route.when.length ? route.when.join("; or ") : "every other request"}</Box>
          <Box sx={{ fontWeight: 600 }}>{route.figures.requests > 0 ? `${percent(route.share)} of requests, ${rate(route.figures.rps)}/s` : "no requests"}</Box>
        </Box>
        {release && (
          <Box sx={{ mt: 0.5, color: "warning.main" }} data-test={`release-${route.name}`}>
            ⇥ Release <Link to={`/releases/${release.number}`} style={{ color: "inherit" }}>{release.name}</Link> {cohort ? "added this route for its cohort; it is in no file." : `changes these weights from ${release.from} to ${release.to}; publishing other weights withdraws it.`}
          </Box>
        )}
        {direct && (
          <Box sx={{ my: 1 }}>
            direct response: <strong>{direct.name}</strong> {direct.value}
          </Box>
        )}
        {!direct && <Box sx={{ my: 1.25, mx: 0.5 }}>
          <WeightBar
            shares={shares}
            {...(service && shares.length > 1
              ? { onChange: (w: number[]) => { setDraft(shares.map((s, i) => ({ ...s, weight: w[i] ?? 0 }))); setOutcome(null); } }
              : {})}
          />
          <Box sx={{ mt: 0.75 }}>
            <WeightBar height={5} shares={route.send.map((t, i) => ({ target: t.target, lane: inForce[i]?.lane ?? 0, weight: (t.observed ?? 0) * 100_000 }))} />
          </Box>
        </Box>}
        <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 2.5, rowGap: 0.5, alignItems: "center" }}>
          {shares.map((s) => (
            <Box key={s.target} sx={{ display: "flex", alignItems: "center", gap: 0.75 }} data-test={`share-${s.target}`}>
              <Box sx={{ width: 16, height: 12, borderRadius: 0.5, ...laneFill(colour(s.lane), s.lane) }} />
              <strong>{s.target}</strong> {weightText(s.weight)}%
              <Box component="span" sx={{ color: "text.secondary" }}>observed {percent(route.send.find((t) => t.target === s.target)?.observed)}</Box>
            </Box>
          ))}
          {!direct && absent.map((v) => (
            <Button key={v} size="small" onClick={() => setDraft([...shares, { target: v, lane: laneIndex(versions, v), weight: 0 }])}>
              Add {v}
            </Button>
          ))}
          <Box sx={{ ml: "auto", color: "text.secondary", fontSize: 12 }}>
            {route.figures.requests > 0 && `success ${percent(route.figures.success)}, p95 ${millis(route.figures.p95MS)}; `}
            {route.timeout && `timeout ${route.timeout}; `}
            {route.settings.filter((d) => d !== direct).map((d) => (
              <span key={d.name} title={`${d.from}, ${d.at.file ?? ""}:${d.at.line ?? ""}`}>{d.name} {d.value}; </span>
            ))}
            {route.at.file}:{route.at.line}
          </Box>
        </Box>
        {draft && (
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1.5, alignItems: "center" }}>
            <TextField size="small" label="Message" value={message} onChange={(e) => setMessage(e.target.value)} sx={{ flex: 1, minWidth: 220 }} />
            <Button variant="contained" disabled={!changed || busy} onClick={() => void publish()} data-test="publish">
              Publish on revision {draft.revision}
            </Button>
            <Button onClick={() => { setDraft(null); setOutcome(null); }}>Discard</Button>
          </Box>
        )}
        {draft && service && (
          <Preview
            disabled={!changed} body={() => ({ split: { service, route: route.name, weights } })}
            only={(r) => r.kind === "mesh" || (r.kind === "service" && r.name === service) || (r.kind === "caller" && r.name !== service) || (r.kind === "version" && r.name.startsWith(`${service}/`)) || (r.kind === "route" && r.name === `${service}/${route.name}`)}
          />
        )}
        {draft && draft.revision !== revision && (
          <Alert severity="warning" sx={{ mt: 1 }} data-test="overtaken">
            Revision {revision} was published meanwhile. Discard your change, look at what it changed, and start again.
          </Alert>
        )}
        {outcome?.error && <Alert severity="error" sx={{ mt: 1 }} data-test="refused">{outcome.error}</Alert>}
        {outcome?.published && <PublishedNotice published={outcome.published} />}
      </Paper>
    </Box>
  );
}
