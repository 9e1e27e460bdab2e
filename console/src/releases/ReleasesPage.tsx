import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { useParams } from "wouter";
import { api, queries, take, words, type Release, type ReleasePage } from "../api/client";
import { useNavigate } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { Confirm } from "../kit/Confirm";
import { For } from "../kit/For";
import { EmptyState } from "../kit/EmptyState";
import { moment, seconds } from "../kit/format";
import { ListEntry } from "../kit/ListEntry";
import { PageHeader } from "../kit/PageHeader";
import { type } from "../kit/theme";
import { ReleaseState } from "./ReleaseState";
import { ReleaseView } from "./ReleaseView";

/** Declared, running and ended releases; one in full. */
export function ReleasesPage() {
  const { name = "" } = useParams<{ name?: string }>();
  const go = useNavigate();
  const { data: list, error } = queries.useQuery("get", "/api/v1/releases", { params: { query: { limit: 60 } } }, { refetchInterval: 1500 });
  const chosen = name || String(list?.releases[0]?.number ?? "");
  return (
    <>
      <PageHeader
        title="Releases" about="A new version gets a rising share of the requests, and is judged in every stage."
        actions={<CopyAsCommand line={chosen ? `nightjar release show ${shellWord(chosen)}` : "nightjar release list"} />}
      />
      {error && !list && <Alert severity="error">{words(error)}</Alert>}
      {list?.releases.length === 0 && list.declared.length === 0 && (
        <EmptyState title="The rules in force declare no release">Write one in the section <code>releases</code> of a rule file and publish it. It appears here with a button that starts it.</EmptyState>
      )}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" } }}>
        <Box>
          {list?.declared.map((d) => <Declared key={d.name} declared={d} onStarted={(n) => go(`/releases/${n}`)} />)}
          <Box component="ol" tabIndex={0} aria-label="Releases" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 200, lg: 640 }, overflowY: "auto" }} data-test="releases">
            {list?.releases.map((r) => <li key={r.number}><Entry release={r} picked={chosen === String(r.number) || chosen === r.name} onPick={() => go(`/releases/${r.number}`)} /></li>)}
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
      <Box sx={{ color: "text.secondary", fontSize: type.small }}>{r.service} {r.from} to {r.to}, {moment(r.began)}{r.steps[r.step] && `, stage ${r.steps[r.step]?.name ?? ""}`}</Box>
    </ListEntry>
  );
}

function Declared({ declared: d, onStarted }: { declared: ReleasePage["declared"][number]; onStarted: (n: number) => void }) {
  const [asked, setAsked] = useState(false);
  return (
    <Box sx={{ border: 1, borderStyle: "dashed", borderColor: "divider", borderRadius: 1, p: 1.25, mb: 1 }} data-test={`declared-${d.name}`}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
        <strong>{d.name}</strong>
        <For who="editor"><Button variant="contained" sx={{ ml: "auto", py: 0 }} disabled={!!d.blocked} onClick={() => setAsked(true)} data-test={`start-${d.name}`}>Start</Button></For>
      </Box>
      <Box sx={{ color: "text.secondary", fontSize: type.small }} title={d.at}>{d.service} {d.from} to {d.to}: {d.steps.map((s) => s.name).join(", ")}</Box>
      {d.blocked && <Box sx={{ fontSize: type.small }}>It cannot start now: {d.blocked}.</Box>}
      <Confirm act={asked ? "Start" : ""} of={d.name} onClose={() => setAsked(false)} onGo={async () => onStarted((await take(api.POST("/api/v1/releases", { body: { name: d.name } }))).number)}>
        {d.to} of {d.service} gets requests of {d.from}: {d.steps.map((s) => `${s.name} for ${seconds(1000 * s.durationSeconds)}${s.holds ? ", then it holds" : ""}`).join("; ")}.
      </Confirm>
    </Box>
  );
}
