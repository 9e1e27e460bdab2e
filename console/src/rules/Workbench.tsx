import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useCallback, useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { Link } from "wouter";
import { api, basedOn, queries, take, words, type CheckReport, type Finding, type Follow, type Mesh, type Published, type Revision, type RuleFile } from "../api/client";
import { useMesh } from "../api/live";
import { Preview } from "../change/Preview";
import { PublishedNotice } from "../change/PublishedNotice";
import { useAddress } from "../kit/address";
import { Confirm } from "../kit/Confirm";
import { Needs, useMay } from "../kit/For";
import { moment, plural, seconds } from "../kit/format";
import { splitName } from "../kit/Place";
import type { Names, Schema } from "./complete";
import { Difference } from "./Difference";
import { DraftKeeper, type Saving } from "./draft";
import { Editor } from "./Editor";
import { Files } from "./Files";
import { Findings } from "./Findings";
import { Propose } from "./Source";

const savingText: Record<Saving, string> = { saved: "draft saved", unsaved: "typing", saving: "saving the draft", "changed elsewhere": "not saved: changed elsewhere", failed: "not saved: the service does not respond" };

const joinFiles = (files: RuleFile[]): string => files.map((f) => (files.length > 1 ? `# ${f.name}\n${f.text}` : f.text)).join("\n");

function namesOf(mesh: Mesh | null): Names {
  const all = mesh?.services ?? [];
  return {
    services: Object.fromEntries(all.map((s) => [s.name, s.versions.map((v) => v.name)])),
    gateways: mesh?.gateways.map((g) => g.name) ?? [],
    sites: [...new Set(all.flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean),
  };
}

const settle = 250; // ms without typing before the files are checked

/** Checks files while they are edited, against the rules in force. */
function useCheck(bundle: string, files: RuleFile[] | undefined, revision: number): { report: CheckReport | null; error: string } {
  const [report, setReport] = useState<CheckReport | null>(null);
  const [error, setError] = useState("");
  useEffect(() => {
    if (!files) return;
    const stop = new AbortController();
    const soon = setTimeout(() => {
      take(api.POST("/api/v1/rules/check", { body: { bundle, files }, signal: stop.signal })).then(
        (r) => { setReport(r); setError(""); },
        (e: unknown) => { if (!stop.signal.aborted) setError(words(e)); },
      );
    }, settle);
    return () => {
      clearTimeout(soon);
      stop.abort();
    };
  }, [bundle, files, revision]);
  return { report, error };
}

interface Props {
  bundle: string;
  /** What it follows; null: nothing. */
  follow: Follow | null;
  /** In force. */
  revision: { number: number; author: string; message: string };
  inForce: Revision;
  view: "edit" | "difference";
}

/** The files of a bundle in the editor, what is wrong with them, and the way to publish them. */
export function Workbench({ bundle, follow, revision, inForce, view }: Props) {
  const [params, change] = useAddress();
  const isEditor = useMay("editor");
  const [draft] = useState(() => new DraftKeeper(bundle));
  const work = useSyncExternalStore(draft.subscribe, draft.current);
  const failure = useSyncExternalStore(draft.subscribe, draft.problem);
  const names = useMesh(namesOf);
  const [message, setMessage] = useState("");
  const [busy, setBusy] = useState(false);
  const [asked, setAsked] = useState("");
  const [outcome, setOutcome] = useState<{ published?: Published; error?: string } | null>(null);
  const files = work?.files;
  const number = revision.number;
  const { report, error: checkError } = useCheck(bundle, files, number);
  const { data: schema } = queries.useQuery("get", "/api/v1/rules/schema", {}, { staleTime: Infinity });
  const wanted = params.get("file");
  const at = Math.max(0, files?.findIndex((f) => f.name === wanted) ?? 0);
  const file = files?.[at];
  const prefix = bundle === "main" ? "" : `${bundle}:`;
  const findings = useMemo(() => (report?.findings ?? []).filter((f) => files?.some((x) => prefix + x.name === f.at.file)), [report, files, prefix]);
  const name = file?.name;
  const ofFile = useMemo(() => findings.filter((f) => f.at.file === prefix + (name ?? "")), [findings, prefix, name]);
  const line = Number(params.get("line") ?? 0) || 0;
  const col = Number(params.get("col") ?? 0) || 1;
  const go = useMemo(() => (line > 0 ? { line, col } : null), [line, col]);
  const went = useCallback(() => change({ line: null, col: null }), [change]);

  useEffect(() => {
    void draft.load();
    return () => draft.close();
  }, [draft]);
  useEffect(() => draft.follow(number), [draft, number]);
  if (!work || !files) return <Box sx={{ color: failure ? "error.main" : "text.secondary" }}>{failure || "Loading the draft"}</Box>;
  const { saving } = work;
  const forceFiles = inForce.bundles?.[bundle] ?? [];
  const overtaken = work.version > 0 && work.base !== number;
  const changed = joinFiles(files) !== joinFiles(forceFiles);
  const setFile = (text: string) => {
    if (!file || text === file.text) return; // the editor also reports texts that it was given
    draft.change({ files: files.map((f, i) => (i === at ? { ...f, text } : f)) });
    setOutcome(null);
  };
  const act = async (what: () => Promise<void>) => {
    setBusy(true);
    try {
      await what();
    } catch (e) {
      setOutcome({ error: `${words(e)} Your draft is saved.` });
    } finally {
      setBusy(false);
    }
  };
  const send = () =>
    act(async () => {
      await draft.flush();
      const published = await take(api.POST("/api/v1/revisions", { params: { header: basedOn(work.base) }, body: { bundle, files, message } }));
      setMessage("");
      setOutcome({ published });
      try {
        await draft.discard();
      } catch (e) {
        setOutcome({ published, error: `The draft could not be discarded: ${words(e)} It has the same text as what was published.` });
      }
    });
  const format = () => act(async () => draft.change({ files: (await take(api.POST("/api/v1/rules/format", { body: { files } }))).files }));
  const discard = async () => {
    await draft.discard();
    setOutcome(null);
  };
  const goTo = (f: Finding) => {
    const [ofBundle, name] = splitName(f.at.file ?? "");
    change({ bundle: ofBundle === "main" ? null : ofBundle, file: name, line: String(f.at.line ?? 1), col: String(f.at.col ?? 1), view: null });
  };
  const left = forceFiles.find((f) => f.name === file?.name)?.text ?? "";

  return (
    <>
      {overtaken && (
        <Alert
          severity="warning" sx={{ mb: 1 }} data-test="overtaken"
          action={
            <>
              <Button onClick={() => { draft.change({ base: number }); setOutcome(null); }} data-test="rebase">Rebase on revision {number}</Button>
              <Button onClick={() => setAsked("Discard")}>Discard my draft</Button>
            </>
          }
        >
          Revision {number} by {revision.author}{revision.message && ` (“${revision.message}”)`} was published meanwhile; your draft is based on revision {work.base} and is saved. Look at the difference: publishing it unchanged
          would undo the changes of {revision.author}.
        </Alert>
      )}
      {saving === "changed elsewhere" && (
        <Alert
          severity="warning" sx={{ mb: 1 }} data-test="changed-elsewhere"
          action={
            <>
              <Button onClick={() => void act(() => draft.keepMine())}>Keep this version</Button>
              <Button onClick={() => void draft.load()}>Load the other</Button>
            </>
          }
        >
          You changed this draft elsewhere, in another window or program. Nothing was overwritten.
        </Alert>
      )}
      <Paper variant="outlined" sx={{ overflow: "hidden" }}>
        <Files
          files={files} active={at} counts={files.map((x) => findings.filter((f) => f.at.file === prefix + x.name && f.severity === "mistake").length)} onPick={(i) => change({ file: files[i]?.name ?? null, line: null, col: null })}
          onChange={!isEditor ? undefined : (next, pick) => { draft.change({ files: next }); change({ file: next[pick]?.name ?? null, line: null, col: null }); setOutcome(null); }}
        />
        {file && view === "edit" && <Editor key={file.name} text={file.text} onChange={isEditor ? setFile : undefined} findings={ofFile} schema={schema as Schema | undefined} names={names} go={go} onWent={went} />}
        {file && view === "difference" && (
          <Box sx={{ p: 1 }}>
            <Difference left={left} right={file.text} leftName={`in force, revision ${inForce.number}`} rightName={work.version > 0 ? "your draft" : "no draft"} />
          </Box>
        )}
        {!file && <Box sx={{ p: 2, color: "text.secondary" }}>This bundle has no files. Add one.</Box>}
      </Paper>
      {!isEditor && <Box sx={{ mt: 1 }}><Needs who="editor" to="to edit and publish rules" /></Box>}
      {isEditor && <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1, alignItems: "center" }}>
        <Box sx={{ color: saving === "failed" || saving === "changed elsewhere" ? "error.main" : "text.secondary", minWidth: 190 }} data-test="saving" role="status">
          {work.version === 0 && saving === "saved" ? `unchanged from revision ${work.base}` : `${savingText[saving]}${saving === "saved" && work.savedAt ? ` at ${moment(work.savedAt)}` : ""}`}
        </Box>
        <Button disabled={busy} onClick={() => void format()} data-test="format">Format</Button>
        <Button disabled={busy || work.version === 0} onClick={() => setAsked("Discard")} data-test="discard">Discard draft</Button>
        <TextField label="Message" value={message} onChange={(e) => setMessage(e.target.value)} sx={{ flex: 1, minWidth: 220 }} slotProps={{ htmlInput: { "data-test": "message" } }} />
        {follow && <Propose bundle={bundle} label="Propose" body={{ draft: true }} message={message} disabled={busy || !report || report.mistakes > 0 || !changed || saving !== "saved"} onDone={() => setMessage("")} />}
        <Button
          variant={follow ? "outlined" : "contained"} disabled={busy || !report || report.mistakes > 0 || !changed || saving === "changed elsewhere"} data-test="publish"
          onClick={() => void send()}
        >
          Publish on revision {work.base}
        </Button>
      </Box>}
      {isEditor && follow && changed && (
        <Box sx={{ color: "text.secondary", mt: 0.5 }} data-test="follow-note">
          This bundle follows branch {follow.branch}. A proposal is pushed there as a branch to be reviewed, and needs a message; {follow.drift === "revert" ? `what you publish here is put back at the next look, within ${seconds(1000 * follow.everySeconds)}` : "what you publish here stays until the branch has another commit"}.
        </Box>
      )}
      {changed && <Preview body={{ rules: files, bundle }} disabled={!report || report.mistakes > 0} />}
      {outcome?.error && <Alert severity="error" sx={{ mt: 1 }} data-test="refused">{outcome.error}</Alert>}
      {outcome?.published && <PublishedNotice published={outcome.published} />}
      <Confirm act={asked} of="your draft" colour="warning" onClose={() => setAsked("")} onGo={discard}>Your changes to this bundle are gone afterwards. The rules in force stay as they are.</Confirm>
      <Box sx={{ mt: 1.5, mb: 2 }} data-test="report">
        {checkError && <Alert severity="error">{checkError}</Alert>}
        {report && (
          <Box sx={{ fontWeight: 650, mb: 0.5 }} data-test="summary">
            {plural(report.mistakes, "mistake")}, {plural(findings.length - findings.filter((f) => f.severity === "mistake").length, "warning")}
            {report.mistakes === 0 && `; ${report.changes.length ? `${plural(report.changes.length, "difference")} to revision ${report.revision}` : `the same as revision ${report.revision}`}`}
          </Box>
        )}
        {report?.releases.filter((o) => !o.written).map((o) => (
          <Box key={o.release} sx={{ color: "text.secondary", mb: 0.5 }} data-test="overlaid">
            ⇥ Release <Link to={`/releases/${o.number ?? o.release}`} style={{ color: "inherit" }}>{o.release}</Link> is running, and changes in addition to these files: {o.changes.filter((c) => /\.(send|mirror)$/.test(c.path)).map((c) => `${c.path.replace(/^(services|gateways)\./, "")}: ${c.before ? `${c.before} → ` : ""}${c.after}`).join("; ")}. Do not write it into a file; publishing other targets there withdraws the release.
          </Box>
        ))}
        <Findings findings={report?.findings ?? []} onGo={goTo} />
      </Box>
    </>
  );
}
