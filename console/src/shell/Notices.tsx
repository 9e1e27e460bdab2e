import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { Link } from "react-router";
import { stopDrill, type Drill } from "../api/client";
import { useLive } from "../api/live";
import { plural, seconds, timeOfDay } from "../parts/format";

/** Notices on every page: a service that does not respond, problems, drills, releases, unpublished files, warnings. */
export function Notices() {
  const { mesh, at, stale } = useLive();
  return (
    <Box sx={{ "& .MuiAlert-root": { borderRadius: 0, alignItems: "center", py: 0.25, px: { xs: 2, md: 3 } }, "& .MuiAlert-action": { pt: 0 }, "& .MuiAlert-icon": { py: 0.75 } }}>
      {stale && (
        <Alert severity="error" data-test="stale">
          {at ? `The service does not respond. This page shows the state at ${new Date(at).toLocaleTimeString()}.` : "The service does not respond."} Proxies keep routing by the rules that they have.
        </Alert>
      )}
      {mesh?.problems.slice(0, 3).map((p) => (
        <Alert key={`${p.proxy} ${p.kind}`} severity="error" data-test={`problem-${p.proxy}`}>
          <Link to="/fleet?show=attention" style={{ color: "inherit" }}>{p.proxy}</Link>{p.gateway && ` of gateway ${p.gateway}`}: {p.kind}: {p.detail}
        </Alert>
      ))}
      {(mesh?.problems.length ?? 0) > 3 && <Alert severity="error">{plural((mesh?.problems.length ?? 0) - 3, "more problem")} of proxies. <Link to="/fleet?show=attention">Show all</Link></Alert>}
      {mesh?.drills.map((d) => <DrillNotice key={d.id} drill={d} />)}
      {mesh?.releases.slice(0, 3).map((r) => (
        <Alert key={r.number} severity={r.state === "held" ? "warning" : "info"} icon={<span aria-hidden>⇥</span>} data-test={`release-notice-${r.number}`}>
          Release <Link to={`/releases/${r.number}`} style={{ color: "inherit" }}>{r.name}</Link>: {r.service} {r.from} to {r.to}, {r.state}{r.step && `, stage ${r.step}`}
          {r.state === "held" ? `: ${r.why ?? ""}` : r.leftSeconds > 0 && `, ${r.leftSeconds.toFixed(0)} s left`}.
        </Alert>
      ))}
      {(mesh?.releases.length ?? 0) > 3 && <Alert severity="info">{plural((mesh?.releases.length ?? 0) - 3, "more release")} running. <Link to="/releases">Show all</Link></Alert>}
      {mesh?.unpublished.map((u) => (
        <Alert key={u.bundle} severity="warning" data-test="unpublished" title={u.at}>
          Not published: {u.files.join(", ")} of bundle {u.bundle}, as {u.by} had it remembered at {timeOfDay(u.at)}, is not what is in force:{" "}
          {u.mistakes > 0 ? plural(u.mistakes, "mistake") : `${plural(u.changes, "difference")} (${u.differences[0]?.path ?? ""})`}.
        </Alert>
      ))}
      {mesh?.warnings.slice(0, 1).map((w) => (
        <Alert key={`${w.path ?? ""}${w.code}`} severity="info" data-test="warnings">
          {w.message} ({w.at.file}:{w.at.line}){mesh.warnings.length > 1 && `; and ${plural(mesh.warnings.length - 1, "more warning")}`}. <Link to="/rules">Open the rules</Link>
        </Alert>
      ))}
      {(mesh?.other ?? 0) > 0 && <Alert severity="info">Too many names: {mesh?.other} requests were counted as "other".</Alert>}
    </Box>
  );
}

/** A running drill with its remaining time. */
function DrillNotice({ drill: d }: { drill: Drill }) {
  const { mesh } = useLive();
  const [error, setError] = useState("");
  const left = Math.max(0, Date.parse(d.ends) - Date.parse(mesh?.at ?? d.began));
  return (
    <Alert
      severity="warning" icon={<span aria-hidden>✂</span>} data-test={`running-${d.id}`}
      action={<Button size="small" color="inherit" data-test={`stop-${d.id}`} onClick={() => { stopDrill(d.id).catch((e: unknown) => { setError(e instanceof Error ? e.message : String(e)); }); }}>Stop</Button>}
    >
      Drill {d.id} by {d.by}: {d.service ? <Link to={`/services/${d.service}`} style={{ color: "inherit" }}>{d.target}</Link> : d.target}: {d.what}
      {d.when && ` when ${d.when}`}. {seconds(left)} left. {error}
    </Alert>
  );
}
