import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { useState } from "react";
import { api, basedOn, readDraft, take, words, type AccessSuggestion } from "../api/client";
import { useNavigate } from "../kit/address";
import { For } from "../kit/For";
import { count, plural } from "../kit/format";
import { type } from "../kit/theme";

/** The fewest rules for what was used, to copy or to take into a draft. */
export function Suggestion({ hasRules }: { hasRules: boolean }) {
  const [suggested, setSuggested] = useState<AccessSuggestion | null>(null);
  const [error, setError] = useState("");
  const navigate = useNavigate();
  const run = (act: () => Promise<void>) => {
    setError("");
    act().catch((e: unknown) => setError(words(e)));
  };
  const toDraft = async (s: AccessSuggestion) => {
    const draft = await readDraft("main");
    const inForce = await take(api.GET("/api/v1/revisions/{number}", { params: { path: { number: "0" } } }));
    const files = (draft ? draft.files : inForce.bundles?.main) ?? [];
    const rest = files.filter((f) => f.name !== s.file.name);
    await api.PUT("/api/v1/drafts/{bundle}", {
      params: { path: { bundle: "main" }, header: basedOn(draft?.version ?? 0) }, body: { base: draft?.base ?? inForce.number, files: [...rest, s.file] },
    });
    navigate("/rules?view=difference");
  };
  return (
    <div>
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1.5, alignItems: "center" }}>
        <Button variant="outlined" data-test="suggest" onClick={() => run(async () => setSuggested(await take(api.GET("/api/v1/access/suggestion"))))}>Suggest rules for what was used</Button>
        {suggested && (
          <Box sx={{ color: "text.secondary" }}>
            {plural(suggested.links, "link")} and {count(suggested.requests)} requests of the last {suggested.days} days.
          </Box>
        )}
        {suggested && !hasRules && <For who="editor"><Button variant="contained" data-test="take-draft" onClick={() => run(() => toDraft(suggested))}>Take into my draft</Button></For>}
        {suggested && hasRules && <Box sx={{ color: "text.secondary" }}>Your rules have a section access already: take from this what is missing there.</Box>}
        {suggested && <Button onClick={() => setSuggested(null)}>Close</Button>}
      </Box>
      {error && <Alert severity="error" sx={{ mt: 1 }}>{error}</Alert>}
      {suggested && (
        <Paper component="pre" variant="outlined" data-test="suggestion" tabIndex={0} sx={{ m: 0, mt: 1, p: 1.25, overflow: "auto", fontSize: type.small, fontFamily: "monospace" }}>
          {suggested.file.text}
        </Paper>
      )}
    </div>
  );
}
