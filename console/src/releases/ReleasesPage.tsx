import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { readReleases, startRelease, type Release, type ReleasePage } from "../api/client";
import { seconds, timeOfDay } from "../parts/format";
import { Confirm } from "../parts/Confirm";
import { ListEntry } from "../parts/ListEntry";
import { usePolled } from "../parts/usePolled";
import { author } from "../parts/author";
import { ReleaseView } from "./ReleaseView";
import { ReleaseState } from "./ReleaseState";

/** Declared, running and ended releases; one in full. */
export function ReleasesPage() {
  const { name = "" } = useParams();
  const go = useNavigate();
  const { value: list, error } = usePolled("releases", 1500, (signal) => readReleases(60, signal));
  const chosen = name || String(list?.releases[0]?.number ?? "");
  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">Releases</Typography>
        <Box sx={{ color: "text.secondary", flex: 1, minWidth: 260 }}>A new version gets a rising share of the requests, and is judged in every stage.</Box>
      </Box>
      {error && !list && <Alert severity="error">{error}</Alert>}
      {list?.releases.length === 0 && list.declared.length === 0 && (
        <Box sx={{ color: "text.secondary", my: 2 }}>The rules in force declare no release: write one in the section <code>releases</code>, and publish it.</Box>
      )}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" } }}>
        <Box>
          {list?.declared.map((d) => <Declared key={d.name} declared={d} onStarted={(n) => void go(`/releases/${n}`)} />)}
          <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 200, lg: 640 }, overflowY: "auto" }} data-test="releases">
            {list?.releases.map((r) => <li key={r.number}><Entry release={r} picked={chosen === String(r.number) || chosen === r.name} onPick={() => void go(`/releases/${r.number}`)} /></li>)}
          </Box>
        </Box>
        {chosen && <ReleaseView key={chosen} name={chosen} />}
      </Box>
    </>
  );
}

function Entry({ release: r, picked, onPick }: { release: Release; picked: boolean; onPick: () => void }) {
  return (
    <ListEntry picked={picked} onPick={onPick} test={`release-${r.number}`}>
      <Box sx={{ display: "flex", gap: 1 }}><strong>{r.number}</strong> {r.name} <Box sx={{ ml: "auto" }}><ReleaseState of={r.state} /></Box></Box>
      <Box sx={{ color: "text.secondary", fontSize: 12 }}>{r.service} {r.from} to {r.to}, {timeOfDay(r.began)}{r.steps[r.step] && `, stage ${r.steps[r.step]?.name ?? ""}`}</Box>
    </ListEntry>
  );
}

function Declared({ declared: d, onStarted }: { declared: ReleasePage["declared"][number]; onStarted: (n: number) => void }) {
  const [asked, setAsked] = useState(false);
  return (
    <Box sx={{ border: 1, borderStyle: "dashed", borderColor: "divider", borderRadius: 1, p: 1.25, mb: 1 }} data-test={`declared-${d.name}`}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
        <strong>{d.name}</strong>
        <Button size="small" variant="contained" sx={{ ml: "auto", py: 0 }} disabled={!!d.blocked} onClick={() => setAsked(true)} data-test={`start-${d.name}`}>Start</Button>
      </Box>
      <Box sx={{ color: "text.secondary", fontSize: 12 }} title={d.at}>{d.service} {d.from} to {d.to}: {d.steps.map((s) => s.name).join(", ")}</Box>
      {d.blocked && <Box sx={{ fontSize: 12 }}>It cannot start now: {d.blocked}.</Box>}
      <Confirm act={asked ? "Start" : ""} of={d.name} onClose={() => setAsked(false)} onGo={async () => onStarted((await startRelease(d.name, author())).number)}>
        {d.to} of {d.service} gets requests of {d.from}: {d.steps.map((s) => `${s.name} for ${seconds(1000 * s.durationSeconds)}${s.holds ? ", then it holds" : ""}`).join("; ")}.
      </Confirm>
    </Box>
  );
}
