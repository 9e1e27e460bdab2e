import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState, type ReactNode } from "react";
import { Link } from "wouter";
import { api, type Drill, type Finding, type Mesh } from "../api/client";
import { useMesh, useSilence } from "../api/live";
import { Aside } from "../kit/Aside";
import { Confirm } from "../kit/Confirm";
import { For } from "../kit/For";
import { Drawer } from "../kit/Drawer";
import { moment, plural, seconds } from "../kit/format";
import { Place } from "../kit/Place";
import { type } from "../kit/theme";
import { Banner } from "./Banner";

/** Something that concerns every page. */
interface Notice {
  id: string;
  severity: "error" | "warning" | "info";
  /** A few words for the line. */
  short: string;
  test: string;
  full: ReactNode;
}

const order = { error: 0, warning: 1, info: 2 };
const colours = { error: "error.main", warning: "warning.main", info: "text.primary" };
const inherit = { color: "inherit" };

/** Up to this number each warning about the rules is a notice of its own. */
const fewWarnings = 3;

const Warning = ({ of: w }: { of: Finding }) => <div>{w.message}. <Place at={w.at} /></div>;

function Warnings({ list, count }: { list: Finding[]; count: number }) {
  return (
    <>
      <strong>{count} warnings about the rules</strong>
      {list.map((w) => <Warning key={`${w.path ?? ""}${w.code}${w.at.line ?? 0}:${w.at.col ?? 0}`} of={w} />)}
      {count > list.length && <div>And {count - list.length} more: the page Rules shows all of them.</div>}
    </>
  );
}

function noticesOf(mesh: Mesh): Notice[] {
  const list: Notice[] = [
    ...mesh.problems.map((p): Notice => ({
      id: `${p.proxy} ${p.kind}`, severity: "error", short: `▲ ${p.proxy}: ${p.kind}`, test: `problem-${p.proxy}`,
      full: <><Link to={`/fleet?find=${p.proxy}`} style={inherit}>{p.proxy}</Link>{p.gateway && ` of gateway ${p.gateway}`}: {p.kind}: {p.detail}</>,
    })),
    ...mesh.drills.map((d): Notice => ({ id: d.id, severity: "warning", short: `✂ ${d.id}: ${d.target}`, test: `running-${d.id}`, full: <RunningDrill drill={d} /> })),
    ...mesh.releases.map((r): Notice => ({
      id: `release ${r.number}`, severity: r.state === "held" ? "warning" : "info", short: `⇥ ${r.name}: ${r.state}${r.step ? `, ${r.step}` : ""}`, test: `release-notice-${r.number}`,
      full: (
        <>
          Release <Link to={`/releases/${r.number}`} style={inherit}>{r.name}</Link>: {r.service} {r.from} to {r.to}, {r.state}{r.step && `, stage ${r.step}`}
          {r.state === "held" ? `: ${r.why ?? ""}` : r.leftSeconds > 0 && `, ${r.leftSeconds.toFixed(0)} s left`}.
        </>
      ),
    })),
    ...mesh.unpublished.map((u): Notice => ({
      id: `unpublished ${u.bundle}`, severity: "warning", short: `${u.files.join(", ")}: not published`, test: "unpublished",
      full: (
        <>
          Not published: {u.files.join(", ")} of bundle {u.bundle}, as {u.by} had it remembered at {moment(u.at)}, is not what is in force:{" "}
          {u.mistakes > 0 ? plural(u.mistakes, "mistake") : `${plural(u.changes, "difference")} (${u.differences[0]?.path ?? ""})`}.
        </>
      ),
    })),
    ...(mesh.warningCount > fewWarnings ? [{ id: "warnings", severity: "info" as const, short: `${mesh.warningCount} warnings about the rules`, test: "warnings", full: <Warnings list={mesh.warnings} count={mesh.warningCount} /> }] : mesh.warnings.map((w): Notice => ({
      id: `${w.path ?? ""}${w.code}${w.at.line ?? 0}`, severity: "info", short: w.message, test: "warnings", full: <Warning of={w} />,
    }))),
  ];
  if (mesh.other > 0) list.push({ id: "other", severity: "info", short: "too many names", test: "other", full: <>Too many names: {mesh.other} requests were counted as “other”.</> });
  return list.sort((a, b) => order[a.severity] - order[b.severity]);
}

/** What the notices are made of. Of a release the seconds left are not, so that the line is not drawn every second. */
const ofMesh = (mesh: Mesh | null) =>
  mesh && { problems: mesh.problems, drills: mesh.drills, releases: mesh.releases, unpublished: mesh.unpublished, warnings: mesh.warnings, warningCount: mesh.warningCount, other: mesh.other };

/** One line with what concerns every page, and a drawer with all of it. */
export function Notices() {
  const parts = useMesh(ofMesh);
  const { isStale, at } = useSilence();
  const [isOpen, setOpen] = useState(false);
  const list = parts ? noticesOf(parts as Mesh) : [];
  const first = list[0];
  return (
    <>
      {isStale && (
        <Banner severity="error" test="stale">
          {at ? `The service does not respond. This page shows the state at ${moment(at)}.` : "The service does not respond."} Proxies keep routing by the rules that they have.
        </Banner>
      )}
      {first && (
        <Box
          component="button" type="button" onClick={() => setOpen(!isOpen)} aria-expanded={isOpen} data-test="notices"
          sx={{
            display: "flex", alignItems: "center", gap: 2, width: "100%", height: 32, px: { xs: 1.5, md: 3 }, border: 0, borderBottom: 1, borderStyle: "solid", borderColor: "divider", font: "inherit", fontSize: type.small,
            color: "text.primary", bgcolor: "background.paper", textAlign: "left", cursor: "pointer", overflow: "hidden", whiteSpace: "nowrap", "&:hover": { bgcolor: "action.hover" },
          }}
        >
          {list.slice(0, 4).map((n, i) => (
            <Box key={n.id} component="span" data-test={`${n.test}-short`} sx={{ color: colours[n.severity], fontWeight: n.severity === "info" ? 400 : 650, overflow: "hidden", textOverflow: "ellipsis", display: i > 0 ? { xs: "none", md: "inline" } : "inline" }}>{n.short}</Box>
          ))}
          <Box component="span" sx={{ ml: "auto", textDecoration: "underline", color: "text.primary" }}>{isOpen ? "Close" : plural(list.length, "notice")}</Box>
        </Box>
      )}
      <Aside>{list.map((n) => n.short).join("; ")}</Aside>
      {isOpen && (
        <Drawer title={plural(list.length, "notice")} onClose={() => setOpen(false)} test="notice-list">
          {list.map((n) => (
            <Box key={n.id} data-test={n.test} sx={{ borderTop: 1, borderColor: "divider", borderLeft: 3, borderLeftColor: colours[n.severity], pl: 1.5, py: 1 }}>{n.full}</Box>
          ))}
          {list.length === 0 && <Box sx={{ color: "text.secondary" }}>Nothing needs attention.</Box>}
        </Drawer>
      )}
    </>
  );
}

/** A running drill with its remaining time, and a way to stop it. */
export function RunningDrill({ drill: d }: { drill: Drill }) {
  const at = useMesh((mesh) => mesh?.at);
  const [isAsked, setAsked] = useState(false);
  const left = Math.max(0, Date.parse(d.ends) - Date.parse(at ?? d.began));
  return (
    <Box sx={{ display: "flex", gap: 1.5, alignItems: "center" }}>
      <Box sx={{ flex: 1 }}>
        Drill {d.id} by {d.by}: {d.service ? <Link to={`/services/${d.service}`} style={inherit}>{d.target}</Link> : d.target}: {d.what}
        {d.when && ` when ${d.when}`}. {seconds(left)} left.
      </Box>
      <For who="editor"><Button variant="outlined" color="warning" onClick={() => setAsked(true)} data-test={`stop-${d.id}`}>Stop</Button></For>
      <Confirm
        act={isAsked ? "Stop" : ""} of={d.id} onClose={() => setAsked(false)}
        onGo={async () => void (await api.DELETE("/api/v1/drills/{drill}", { params: { path: { drill: d.id } } }))}
      >
        {d.target} gets no more failures from this drill, in every proxy, at once.
      </Confirm>
    </Box>
  );
}
