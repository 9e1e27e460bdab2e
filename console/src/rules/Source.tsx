import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, queries, take, words, type Follow, type Proposal } from "../api/client";
import { CopyAsCommand } from "../kit/Command";
import { FactTable } from "../kit/FactTable";
import { For } from "../kit/For";
import { moment, percent, seconds } from "../kit/format";
import { Verdict } from "../kit/Verdict";

/** What a bundle follows; null: nothing, or it is not known yet. */
export function useFollow(bundle: string): Follow | null {
  const { data } = queries.useQuery("get", "/api/v1/follows", {}, { refetchInterval: 2000, placeholderData: (old) => old });
  return data?.follows.find((f) => f.bundle === bundle) ?? null;
}

const colours: Record<string, string> = { "in step": "success.main", behind: "text.secondary", refused: "error.main", drifted: "warning.main", unreachable: "warning.main" };

const short = (id: string): string => id.slice(0, 10);

/** Where a bundle comes from: repository, commit, state, what stands in the way, and proposals. */
export function Source({ follow: f }: { follow: Follow }) {
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const [failure, setFailure] = useState("");
  const look = async () => {
    setBusy(true);
    setFailure("");
    try {
      await api.POST("/api/v1/follows/{bundle}/looks", { params: { path: { bundle: f.bundle } }, body: {} });
      await client.invalidateQueries();
    } catch (e) {
      setFailure(words(e));
    } finally {
      setBusy(false);
    }
  };
  const colour = colours[f.state] ?? "text.secondary";
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 1.5, borderLeft: 4, borderLeftColor: colour }} data-test="source">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
        <Box component="h2" sx={{ typography: "h3", m: 0 }}>From Git: <Box component="span" sx={{ color: colour }} data-test="source-state">{f.state}</Box></Box>
        <Box sx={{ color: "text.secondary", overflowWrap: "anywhere" }}>since {moment(f.since)}; branch <strong>{f.branch}</strong>, path {f.path}, {f.url}</Box>
        <Box sx={{ ml: "auto", display: "flex", gap: 1 }}>
          <CopyAsCommand line="nightjar follow list" />
          <For who="editor"><Button variant="outlined" disabled={busy} onClick={() => void look()} data-test="look">{busy ? "Looking" : "Look now"}</Button></For>
        </Box>
      </Box>
      {f.commit && (
        <Box sx={{ mt: 0.5 }} data-test="source-commit">
          In force: commit <Box component="code">{short(f.commit.id)}</Box> by {f.commit.author}, “{f.commit.subject}”, as revision {f.revision}.
          {f.looked && <Box component="span" sx={{ color: "text.secondary" }}> Looked at {moment(f.looked)}, every {seconds(1000 * f.everySeconds)}.</Box>}
        </Box>
      )}
      {failure && <Alert severity="error" sx={{ mt: 1 }}>{failure}</Alert>}
      {f.why && f.state !== "in step" && <Alert severity={f.state === "refused" ? "error" : f.state === "behind" ? "info" : "warning"} sx={{ mt: 1 }} data-test="source-why">{f.why}</Alert>}
      {f.findings.length > 0 && (
        <Box component="ul" sx={{ m: 0, mt: 0.5, pl: 2.5 }} data-test="source-findings">
          {f.findings.map((g, i) => (
            <li key={i}>
              <Box component="span" sx={{ color: "text.secondary" }}>{g.at.file}{g.at.line ? `:${g.at.line}` : ""}</Box> <strong>{g.code}</strong> {g.message}{g.expected && <Box component="span" sx={{ color: "text.secondary" }}>; expected {g.expected}</Box>}
              {g.source && <Box component="pre" sx={{ m: 0 }}>{g.source}</Box>}
            </li>
          ))}
        </Box>
      )}
      {f.differences.length > 0 && (
        <Box component="ul" aria-label="Changed otherwise" sx={{ m: 0, mt: 0.5, pl: 2.5 }} data-test="source-differences">
          {f.differences.map((c) => <li key={c.path}>{c.path}: the branch says {c.before || "nothing"}, in force is <strong>{c.after || "nothing"}</strong></li>)}
        </Box>
      )}
      {f.edits.map((e) => <Box key={e.route} sx={{ mt: 0.5 }}>Release {e.release} wrote <strong>{e.targets}</strong> for {e.route}. It stays in force until the branch has it{e.proposal > 0 && `, by proposal ${e.proposal}`}.</Box>)}
      {f.state === "drifted" && <Propose bundle={f.bundle} label="Propose what is in force" body={{}} />}
      {f.proposals.length > 0 && <Proposals list={f.proposals} />}
    </Paper>
  );
}

/** Pushes a change as a branch, once a message says what it is: that of the caller, or else one that is typed here. */
export function Propose({ bundle, label, body, message, disabled = false, onDone }: { bundle: string; label: string; body: { draft?: boolean }; message?: string; disabled?: boolean; onDone?: () => void }) {
  const client = useQueryClient();
  const [own, setOwn] = useState("");
  const [busy, setBusy] = useState(false);
  const [outcome, setOutcome] = useState<{ text: string; isError: boolean } | null>(null);
  const said = (message ?? own).trim();
  const go = async () => {
    setBusy(true);
    setOutcome(null);
    try {
      const p = await take(api.POST("/api/v1/follows/{bundle}/proposals", { params: { path: { bundle } }, body: { ...body, message: said } }));
      setOutcome({ text: `Proposal ${p.number} is pushed as branch ${p.branch}. It is in force once it is merged.`, isError: false });
      setOwn("");
      onDone?.();
      await client.invalidateQueries();
    } catch (e) {
      setOutcome({ text: words(e), isError: true });
    } finally {
      setBusy(false);
    }
  };
  return (
    <For who="editor">
      {message === undefined && <TextField label="Message" placeholder="What it does and why" value={own} onChange={(e) => setOwn(e.target.value)} sx={{ width: 320, mr: 1, mt: 1 }} slotProps={{ htmlInput: { "data-test": "propose-message" } }} />}
      <Button variant="contained" disabled={busy || disabled || !said} onClick={() => void go()} data-test="propose" sx={{ mt: message === undefined ? 1 : 0 }}>{busy ? "Proposing" : label}</Button>
      {outcome && <Alert severity={outcome.isError ? "error" : "success"} sx={{ mt: 0.5, flexBasis: "100%" }} data-test="proposed">{outcome.text}</Alert>}
    </For>
  );
}

const shownAtFirst = 4;

function Proposals({ list }: { list: Proposal[] }) {
  const [all, setAll] = useState(false);
  const sorted = [...list.filter((p) => p.state === "open"), ...list.filter((p) => p.state !== "open")];
  const rows = sorted.slice(0, all ? sorted.length : shownAtFirst).map((p) => ({
    key: String(p.number),
    cells: [
      p.number, <Box key="state" component="span" sx={{ fontWeight: p.state === "open" ? 650 : 400, color: p.state === "gone" ? "text.secondary" : undefined }} data-test={`proposal-${p.number}`}>{p.state}</Box>,
      <code key="branch">{p.branch}</code>, p.of, p.by, p.message.split("\n")[0], <Expected key="forecast" proposal={p} />,
    ],
  }));
  return (
    <Box sx={{ mt: 1 }} data-test="proposals">
      <FactTable head={["Proposal", "State", "Branch", "Of", "By", "Message", "Forecast: success"]} rows={rows} isWide />
      {!all && sorted.length > shownAtFirst && <Button onClick={() => setAll(true)}>Show all {sorted.length}</Button>}
    </Box>
  );
}

/** What the forecast says of a proposal. */
function Expected({ proposal: { forecast } }: { proposal: Proposal }) {
  if (!forecast) return "–";
  if (forecast.failed) return `none: ${forecast.failed}`;
  const rows = forecast.rows.filter((r) => r.success.before !== null && r.success.after !== null);
  if (rows.length === 0) return "no requests";
  const shown = rows.slice(0, 3);
  const worse = forecast.worse ?? "";
  const isShown = shown.some((r) => worse.startsWith(`${r.kind} ${r.name}:`));
  return (
    <>
      {shown.map((r) => (
        <div key={`${r.kind} ${r.name}`}>{r.kind === "mesh" ? "all requests" : r.name} {percent(r.success.before)} → {percent(r.success.after)} <Verdict of={r.verdict} /></div>
      ))}
      {worse && !isShown && <Box sx={{ color: "error.main" }}>▼ {worse}</Box>}
    </>
  );
}
