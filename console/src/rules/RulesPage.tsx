import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import { useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { Link, useSearchParams } from "react-router";
import { check, format, publish, readRevision, readSchema, type Finding, type Mesh, type CheckReport, type Published, type Revision, type RuleFile } from "../api/client";
import { useLive } from "../api/live";
import { Preview } from "../effects/Preview";
import { plural, timeOfDay } from "../parts/format";
import { PublishedNotice } from "../parts/PublishedNotice";
import { author as storedAuthor, authorKey } from "../parts/author";
import type { Names, Schema } from "./complete";
import { Difference } from "./Difference";
import { Editor } from "./Editor";
import { Findings } from "./Findings";
import { Files } from "./Files";
import { History } from "./History";
import { DraftKeeper, type Saving } from "./draft";

const savingText: Record<Saving, string> = { saved: "draft saved", unsaved: "typing", saving: "saving the draft", "changed elsewhere": "not saved: changed elsewhere", failed: "not saved: the service does not respond" };

const joinFiles = (files: RuleFile[]): string => files.map((f) => (files.length > 1 ? `# ${f.name}\n${f.text}` : f.text)).join("\n");

/** Rule files: edit, check, compare with the rules in force, publish. */
export function RulesPage() {
  const { mesh } = useLive();
  const [params, setParams] = useSearchParams();
  const [who, setWho] = useState(storedAuthor);
  const [inForce, setInForce] = useState<Revision | null>(null);
  const bundle = params.get("bundle") ?? "main";
  const view = params.get("view") === "difference" ? "difference" : "edit";
  const number = mesh?.revision.number;
  const set = (key: string, value: string | null) =>
    setParams((now) => {
      if (value) now.set(key, value);
      else now.delete(key);
      return now;
    }, { replace: true });

  useEffect(() => {
    if (number === undefined) return;
    let here = true;
    readRevision(0).then((r) => here && setInForce(r), () => undefined);
    return () => {
      here = false;
    };
  }, [number]);
  const bundles = [...new Set([...Object.keys(inForce?.bundles ?? {}), "main", bundle])].sort();

  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", gap: 1.5, mb: 1.5 }}>
        <Typography variant="h1">Rules</Typography>
        {bundles.length > 1 && (
          <TextField select size="small" label="Bundle" value={bundle} onChange={(e) => set("bundle", e.target.value)}>
            {bundles.map((b) => <MenuItem key={b} value={b}>{b}</MenuItem>)}
          </TextField>
        )}
        <Who name={who} onChange={(name) => { localStorage.setItem(authorKey, name); setWho(name); }} />
        <ToggleButtonGroup size="small" exclusive value={view} onChange={(_, v: string | null) => v && set("view", v === "edit" ? null : v)} sx={{ ml: "auto" }}>
          <ToggleButton value="edit">Edit</ToggleButton>
          <ToggleButton value="difference" data-test="show-difference">Difference</ToggleButton>
        </ToggleButtonGroup>
      </Box>
      {mesh && inForce && <Workbench key={`${bundle} ${who}`} bundle={bundle} who={who} mesh={mesh} inForce={inForce} view={view} />}
      <History current={number ?? 0} who={who} inForce={inForce} bundle={bundle} open={Number(params.get("compare") ?? 0)} onOpen={(n) => set("compare", n ? String(n) : null)} />
    </>
  );
}

/** The name of the person; it takes effect when the field loses focus. */
function Who({ name, onChange }: { name: string; onChange: (name: string) => void }) {
  const [text, setText] = useState(name);
  const take = () => {
    const t = text.trim().slice(0, 60);
    if (t && t !== name) onChange(t);
    setText(t || name);
  };
  return (
    <TextField
      size="small" label="Your name" value={text} onChange={(e) => setText(e.target.value)} onBlur={take} onKeyDown={(e) => e.key === "Enter" && take()}
      sx={{ width: 150 }} slotProps={{ htmlInput: { "data-test": "who" } }}
    />
  );
}

function namesOf(mesh: Mesh): Names {
  return {
    services: Object.fromEntries(mesh.services.map((s) => [s.name, s.versions.map((v) => v.name)])),
    gateways: mesh.gateways.map((g) => g.name),
    sites: [...new Set(mesh.services.flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean),
  };
}

function Workbench({ bundle, who, mesh, inForce, view }: { bundle: string; who: string; mesh: Mesh; inForce: Revision; view: string }) {
  const revision = mesh.revision.number;
  const [draft] = useState(() => new DraftKeeper(bundle, who));
  const work = useSyncExternalStore(draft.subscribe, draft.current);
  const failure = useSyncExternalStore(draft.subscribe, draft.problem);
  const [active, setActive] = useState(0);
  const [report, setReport] = useState<CheckReport | null>(null);
  const [checkError, setCheckError] = useState("");
  const [schema, setSchema] = useState<Schema | null>(null);
  const [go, setGo] = useState<{ line: number; col: number } | null>(null);
  const [message, setMessage] = useState("");
  const [busy, setBusy] = useState(false);
  const [outcome, setOutcome] = useState<{ published?: Published; error?: string } | null>(null);
  const files = work?.files;
  const [nameKey, setNameKey] = useState("");
  const key = JSON.stringify(namesOf(mesh));
  if (key !== nameKey) setNameKey(key);
  const names = useMemo(() => JSON.parse(nameKey || '{"services":{},"gateways":[],"sites":[]}') as Names, [nameKey]);

  useEffect(() => {
    void draft.load();
    return () => draft.close();
  }, [draft]);
  useEffect(() => draft.follow(revision), [draft, revision]);
  useEffect(() => {
    readSchema().then((s) => setSchema(s as Schema), () => undefined);
  }, []);
  useEffect(() => {
    if (!files) return;
    const stop = new AbortController();
    const soon = setTimeout(() => {
      check(bundle, files, stop.signal).then(
        (r) => { setReport(r); setCheckError(""); },
        (e: unknown) => { if (!stop.signal.aborted) setCheckError(e instanceof Error ? e.message : String(e)); },
      );
    }, 250);
    return () => {
      clearTimeout(soon);
      stop.abort();
    };
  }, [bundle, files, revision]);

  if (!work || !files) return <Typography sx={{ color: "text.secondary" }}>{failure || "Loading the draft"}</Typography>;
  const { saving } = work;
  const prefix = bundle === "main" ? "" : `${bundle}:`;
  const at = Math.min(active, Math.max(files.length - 1, 0));
  const file = files[at];
  const forceFiles = inForce.bundles?.[bundle] ?? [];
  const own = (f: Finding) => files.some((x) => prefix + x.name === f.at.file);
  const findings = (report?.findings ?? []).filter(own);
  const overtaken = work.version > 0 && work.base !== revision;
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
      setOutcome({ error: e instanceof Error ? e.message : String(e) });
    } finally {
      setBusy(false);
    }
  };
  const send = () =>
    act(async () => {
      await draft.flush();
      const p = await publish({ bundle, files, author: who, message }, work.base);
      setMessage("");
      await draft.discard();
      setOutcome({ published: p });
    });
  const goTo = (f: Finding) => {
    const i = files.findIndex((x) => prefix + x.name === f.at.file);
    if (i >= 0) setActive(i);
    setGo({ line: f.at.line ?? 1, col: f.at.col ?? 1 });
  };
  const left = forceFiles.find((f) => f.name === file?.name)?.text ?? "";

  return (
    <>
      {overtaken && (
        <Alert
          severity="warning" sx={{ mb: 1 }} data-test="overtaken"
          action={
            <>
              <Button size="small" onClick={() => { draft.change({ base: revision }); setOutcome(null); }} data-test="rebase">Rebase on revision {revision}</Button>
              <Button size="small" onClick={() => void act(() => draft.discard())}>Discard my draft</Button>
            </>
          }
        >
          Revision {revision} by {mesh.revision.author}{mesh.revision.message && ` (“${mesh.revision.message}”)`} was published meanwhile; your draft is based on revision {work.base} and is saved. Look at the difference: publishing it unchanged
          would undo the changes of {mesh.revision.author}.
        </Alert>
      )}
      {saving === "changed elsewhere" && (
        <Alert
          severity="warning" sx={{ mb: 1 }} data-test="changed-elsewhere"
          action={
            <>
              <Button size="small" onClick={() => void act(() => draft.keepMine())}>Keep this version</Button>
              <Button size="small" onClick={() => void draft.load()}>Load the other</Button>
            </>
          }
        >
          Somebody named {who} changed this draft in another window. Nothing was overwritten.
        </Alert>
      )}
      <Paper variant="outlined" sx={{ overflow: "hidden" }}>
        <Files
          files={files} active={at} counts={files.map((x) => findings.filter((f) => f.at.file === prefix + x.name && f.severity === "mistake").length)} onPick={setActive}
          onChange={(next, pick) => { draft.change({ files: next }); setActive(pick); setOutcome(null); }}
        />
        {file && view === "edit" && <Editor key={file.name} text={file.text} onChange={setFile} findings={findings.filter((f) => f.at.file === prefix + file.name)} schema={schema} names={names} go={go} />}
        {file && view === "difference" && (
          <Box sx={{ p: 1 }}>
            <Difference left={left} right={file.text} leftName={`in force, revision ${inForce.number}`} rightName={work.version > 0 ? `draft of ${who}` : "no draft"} />
          </Box>
        )}
        {!file && <Box sx={{ p: 2, color: "text.secondary" }}>This bundle has no files. Add one.</Box>}
      </Paper>
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1, alignItems: "center" }}>
        <Box sx={{ color: saving === "failed" || saving === "changed elsewhere" ? "error.main" : "text.secondary", minWidth: 190 }} data-test="saving" role="status">
          {work.version === 0 && saving === "saved" ? `unchanged from revision ${work.base}` : `${savingText[saving]}${saving === "saved" && work.savedAt ? ` at ${timeOfDay(work.savedAt)}` : ""}`}
        </Box>
        <Button size="small" disabled={busy} onClick={() => void act(async () => draft.change({ files: await format(files) }))} data-test="format">Format</Button>
        <Button size="small" disabled={busy || work.version === 0} onClick={() => void act(() => draft.discard())} data-test="discard">Discard draft</Button>
        <TextField size="small" label="Message" value={message} onChange={(e) => setMessage(e.target.value)} sx={{ flex: 1, minWidth: 220 }} slotProps={{ htmlInput: { "data-test": "message" } }} />
        <Button
          variant="contained" disabled={busy || !report || report.mistakes > 0 || !changed || saving === "changed elsewhere"} data-test="publish"
          onClick={() => void send()}
        >
          Publish on revision {work.base}
        </Button>
      </Box>
      {changed && <Preview body={() => ({ rules: files, bundle })} disabled={!report || report.mistakes > 0} />}
      {outcome?.error && <Alert severity="error" sx={{ mt: 1 }} data-test="refused">{outcome.error} Your draft is saved.</Alert>}
      {outcome?.published && <PublishedNotice published={outcome.published} />}
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
