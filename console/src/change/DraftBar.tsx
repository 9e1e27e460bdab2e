import { useQuery, useQueryClient } from "@tanstack/react-query";
import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { Link } from "wouter";
import { api, basedOn, take, words, type Published } from "../api/client";
import { usePath } from "../kit/address";
import { Confirm } from "../kit/Confirm";
import { plural } from "../kit/format";
import { Preview } from "./Preview";
import { PublishedNotice } from "./PublishedNotice";
import type { useBundle } from "./useBundle";

/** What can be done with a draft of a bundle before it is published. */
function waysOf(bundle: string) {
  const to = (path: string, query: Record<string, string>) => `${path}?${new URLSearchParams({ ...query, ...(bundle === "main" ? {} : { bundle }) }).toString()}`;
  return [
    { name: "Open in the editor", to: to("/rules", { view: "difference" }), test: "draft-editor" },
    { name: "Forecast it at other rates and outages", to: to("/forecast", { rules: "draft" }), test: "draft-forecast" },
    { name: "Rehearse it in a trial", to: to("/trials", { rules: "draft" }), test: "draft-trial" },
  ];
}

/** The person's draft of the rules that a page shows: what it changes, its forecast, and the way to publish it. */
export function DraftBar({ edit }: { edit: ReturnType<typeof useBundle> }) {
  const { bundle: b, revision, discard } = edit;
  const client = useQueryClient();
  const [path] = usePath();
  const [message, setMessage] = useState("");
  const [busy, setBusy] = useState(false);
  const [asked, setAsked] = useState("");
  const [outcome, setOutcome] = useState<{ published?: Published; error?: string } | null>(null);
  const hasDraft = b !== undefined && b.version > 0;
  const { data: report } = useQuery({
    queryKey: ["draft-check", b?.name, b?.version, revision], enabled: hasDraft,
    queryFn: ({ signal }) => take(api.POST("/api/v1/rules/check", { body: { bundle: b?.name ?? "main", files: b?.files ?? [] }, signal })),
  });
  const changes = report?.changes ?? [];
  const publish = async () => {
    if (!b) return;
    setBusy(true);
    try {
      const published = await take(api.POST("/api/v1/revisions", { params: { header: basedOn(b.base) }, body: { bundle: b.name, files: b.files, message } }));
      setOutcome({ published });
      setMessage("");
      await discard().catch((e: unknown) => setOutcome({ published, error: `The draft could not be discarded: ${words(e)} It has the same text as what was published.` }));
    } catch (e) {
      setOutcome({ error: `${words(e)} Your draft is saved.` });
    } finally {
      setBusy(false);
      void client.invalidateQueries({ queryKey: ["bundle"] });
    }
  };
  if (!outcome && (!hasDraft || !report || (changes.length === 0 && report.mistakes === 0))) return null;
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 2, borderLeft: 4, borderLeftColor: "warning.main" }} data-test="draft-bar">
      {hasDraft && report && (changes.length > 0 || report.mistakes > 0) && (
        <>
          <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
            <Box component="h2" sx={{ typography: "h3", m: 0 }}>Your draft: {plural(changes.length, "change")}{report.mistakes > 0 && `, ${plural(report.mistakes, "mistake")}`}</Box>
            {waysOf(b.name).filter((w) => !w.to.startsWith(`${path}?`)).map((w) => <Link key={w.to} to={w.to} style={{ color: "inherit" }} data-test={w.test}>{w.name}</Link>)}
          </Box>
          <Box component="ul" sx={{ m: 0, my: 0.5, pl: 2.5, maxHeight: 130, overflowY: "auto" }} tabIndex={0} aria-label="Changes">
            {changes.map((c) => <li key={c.path}>{c.path}: {c.before || "–"} → <strong>{c.after || "–"}</strong></li>)}
            {report.findings.filter((f) => f.severity === "mistake").map((f, i) => <Box component="li" key={i} sx={{ color: "error.main" }}>{f.at.file}:{f.at.line}: {f.message}</Box>)}
          </Box>
          {b.base !== revision && (
            <Alert severity="warning" sx={{ my: 1 }} data-test="draft-behind">Revision {revision} was published meanwhile; your draft is based on revision {b.base}. Open it in the editor to look at the difference and rebase it.</Alert>
          )}
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
            <TextField label="Message" value={message} onChange={(e) => setMessage(e.target.value)} sx={{ flex: 1, minWidth: 200 }} />
            <Button variant="contained" disabled={busy || report.mistakes > 0 || b.base !== revision} onClick={() => void publish()} data-test="publish-draft">Publish on revision {b.base}</Button>
            <Button onClick={() => setAsked("Discard")} data-test="discard-draft">Discard</Button>
          </Box>
          {path !== "/forecast" && <Preview body={{ rules: b.files, bundle: b.name }} disabled={report.mistakes > 0} />}
        </>
      )}
      {outcome?.error && <Alert severity="error" sx={{ mt: 1 }} data-test="refused">{outcome.error}</Alert>}
      {outcome?.published && <PublishedNotice published={outcome.published} />}
      {outcome && !hasDraft && <Button onClick={() => setOutcome(null)}>Close</Button>}
      <Confirm act={asked} of="your draft" colour="warning" onClose={() => setAsked("")} onGo={discard}>All your changes to the bundle {b?.name} are gone afterwards. The rules in force stay as they are.</Confirm>
    </Paper>
  );
}
