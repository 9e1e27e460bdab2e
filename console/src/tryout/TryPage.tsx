import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useEffect, useRef, useState, type FormEvent } from "react";
import { api, call, take, words, type CallResult, type Explanation as Explained, type Mesh, type RequestSpec } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { For, Needs } from "../kit/For";
import { PageHeader } from "../kit/PageHeader";
import { Explanation } from "./Explanation";
import { StandIns } from "./StandIns";
import { ResultView } from "./ResultView";

interface Form {
  method: string;
  url: string;
  headers: string;
  cookie: string;
  from: string;
  count: string;
  /** Of an outsider, for the explanation. */
  address: string;
  claims: string;
  /** "yes": take any certificate of a gateway. */
  insecure: string;
}

const start: Form = { method: "GET", url: "", headers: "", cookie: "", from: "", count: "200", address: "", claims: "", insecure: "" };
const methods = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"];

/** Reads the header lines; the second value is an error, or empty. */
function headersOf(form: Form): [Record<string, string>, string] {
  const headers: Record<string, string> = {};
  for (const line of form.headers.split("\n").filter((l) => l.trim())) {
    const at = line.indexOf(":");
    if (at < 1) return [headers, `"${line}": write NAME: VALUE`];
    headers[line.slice(0, at).trim()] = line.slice(at + 1).trim();
  }
  if (form.cookie.trim()) headers["Cookie"] = form.cookie.trim();
  return [headers, ""];
}

/** Claims of a token, written NAME=VALUE; undefined: none. */
function claimsOf(text: string): Record<string, string[]> | undefined {
  const claims: Record<string, string[]> = {};
  for (const pair of text.split(/[\n,]/).map((p) => p.trim()).filter((p) => p.indexOf("=") > 0)) {
    const at = pair.indexOf("=");
    (claims[pair.slice(0, at)] ??= []).push(pair.slice(at + 1));
  }
  return Object.keys(claims).length > 0 ? claims : undefined;
}

const servicesOf = (mesh: Mesh | null) => ({
  services: mesh?.services.map((s) => ({ name: s.name, isOutside: s.isOutside === true, isSplit: s.versions.length > 1 && s.isDeclared })) ?? [], revision: mesh?.revision.number,
});

/** The command that sends the same. */
function lineOf(spec: RequestSpec, count: number): string {
  const headers = Object.entries(spec.headers ?? {}).map(([name, value]) => `-H ${shellWord(`${name}: ${value}`)}`);
  return ["nightjar call", ...(spec.method && spec.method !== "GET" ? [`-X ${spec.method}`] : []), shellWord(spec.url), ...headers, ...(spec.from ? [`--from ${shellWord(spec.from)}`] : []), ...(spec.insecure ? ["--insecure"] : []), `-n ${count}`].join(" ");
}

/** Sends a request; shows the explanation beside the result. */
export function TryPage() {
  const { services, revision } = useMesh(servicesOf);
  const [params, change] = useAddress();
  const [form, setForm] = useState<Form>(() => Object.fromEntries(Object.entries(start).map(([name, value]) => [name, params.get(name) ?? value])) as unknown as Form);
  const [explained, setExplained] = useState<Explained | null>(null);
  const [explainError, setExplainError] = useState("");
  const [result, setResult] = useState<CallResult | null>(null);
  const [failure, setFailure] = useState("");
  const running = useRef<AbortController | null>(null);
  const [busy, setBusy] = useState(false);
  const set = (name: keyof Form) => (e: { target: { value: string } }) => setForm({ ...form, [name]: e.target.value });

  const first = services.find((s) => s.isSplit)?.name ?? services[0]?.name;
  const url = form.url || (first ? `http://${first}/` : "");
  const secure = url.startsWith("https://");
  const [headers, wrong] = headersOf(form);
  const spec: RequestSpec = { method: form.method, url, headers, ...(form.from ? { from: form.from } : {}), ...(secure && form.insecure ? { insecure: true } : {}) };
  const claims = claimsOf(form.claims);
  const question = JSON.stringify({ ...spec, ...(form.address.trim() ? { address: form.address.trim() } : {}), ...(claims ? { claims } : {}) });

  // The explanation follows the form and the rules in force.
  useEffect(() => {
    const stop = new AbortController();
    const soon = setTimeout(() => {
      const q = JSON.parse(question) as RequestSpec;
      if (!q.url) return;
      take(api.POST("/api/v1/explain", { body: q, signal: stop.signal })).then(
        (e) => { setExplained(e); setExplainError(""); },
        (e: unknown) => { if (!stop.signal.aborted) { setExplained(null); setExplainError(words(e)); } },
      );
    }, 250);
    return () => { clearTimeout(soon); stop.abort(); };
  }, [question, revision]);
  useEffect(() => () => running.current?.abort(), []);

  const send = async (e: FormEvent) => {
    e.preventDefault();
    if (busy) {
      running.current?.abort();
      return;
    }
    change(Object.fromEntries(Object.entries({ ...form, url }).map(([k, v]) => [k, v && v !== start[k as keyof Form] ? v : null])));
    const stop = new AbortController();
    running.current = stop;
    setBusy(true);
    setFailure("");
    setResult(null);
    try {
      await call({ ...spec, count: Number(form.count) }, setResult, stop.signal);
    } catch (e) {
      if (!stop.signal.aborted) setFailure(words(e));
    } finally {
      setBusy(false);
    }
  };
  const count = Number(form.count);
  const countWrong = !Number.isInteger(count) || count < 1 || count > 100_000;
  const callers = services.filter((s) => !s.isOutside).map((s) => s.name);

  return (
    <>
      <PageHeader title="Try" about="Explains where a request goes, and sends it." actions={<CopyAsCommand line={lineOf(spec, count)} />} />
      <Paper component="form" variant="outlined" onSubmit={(e) => void send(e)} sx={{ p: 1.5, display: "grid", gap: 1.5, gridTemplateColumns: { xs: "1fr", md: "110px 1fr 170px 110px auto" }, alignItems: "start" }}>
        <TextField select label="Method" value={form.method} onChange={set("method")}>
          {methods.map((m) => <MenuItem key={m} value={m}>{m}</MenuItem>)}
        </TextField>
        <TextField label="URL" value={url} onChange={set("url")} helperText="The host is a service, or a host of a gateway" slotProps={{ htmlInput: { "data-test": "url" } }} />
        <TextField select label="Caller" value={form.from} onChange={set("from")} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
          <MenuItem value="">Nightjar itself</MenuItem>
          {callers.map((c) => <MenuItem key={c} value={c}>{c}</MenuItem>)}
        </TextField>
        <TextField label="Requests" value={form.count} onChange={set("count")} error={countWrong} helperText={countWrong ? "1 to 100000" : " "} slotProps={{ htmlInput: { "data-test": "count", inputMode: "numeric" } }} />
        <For who="editor" instead={<Needs who="editor" to="to send" />}>
          <Button type="submit" variant="contained" disabled={!url || countWrong || wrong !== ""} data-test="send" sx={{ height: 40, minWidth: 96 }}>
            {busy ? "Stop" : "Send"}
          </Button>
        </For>
        <Box sx={{ gridColumn: "1 / -1", display: "grid", gap: 1.5, gridTemplateColumns: { xs: "1fr", md: "1fr 1fr" } }}>
          <TextField multiline label="Headers, one per line" placeholder="x-crew: yes" value={form.headers} onChange={set("headers")} error={wrong !== ""} helperText={wrong} slotProps={{ inputLabel: { shrink: true }, htmlInput: { "data-test": "headers" } }} />
          <TextField label="Cookie" placeholder="berth=A7" value={form.cookie} onChange={set("cookie")} slotProps={{ inputLabel: { shrink: true } }} />
          {(explained?.entry.startsWith("gateway") || form.address || form.claims) && (
            <>
              <TextField label="Address of the caller" placeholder="203.0.113.9" value={form.address} onChange={set("address")} helperText="For the explanation" slotProps={{ inputLabel: { shrink: true }, htmlInput: { "data-test": "address" } }} />
              <TextField label="Claims of its token" placeholder="group=crew, sub=mara" value={form.claims} onChange={set("claims")} helperText="For the explanation" slotProps={{ inputLabel: { shrink: true }, htmlInput: { "data-test": "claims" } }} />
            </>
          )}
          {secure && (
            <FormControlLabel
              control={<Checkbox checked={form.insecure !== ""} onChange={(e) => setForm({ ...form, insecure: e.target.checked ? "yes" : "" })} />}
              label="Take any certificate of the gateway" data-test="insecure" sx={{ gridColumn: "1 / -1" }}
            />
          )}
        </Box>
      </Paper>
      <Box sx={{ display: "grid", gap: 2, mt: 2, gridTemplateColumns: { xs: "minmax(0,1fr)", md: "minmax(0,1fr) minmax(0,1fr)" }, alignItems: "start" }}>
        <section aria-label="Explanation">
          <Box component="h2" sx={{ typography: "h2", m: 0, mb: 1 }}>Explanation</Box>
          {explainError && <Alert severity="error">{explainError}</Alert>}
          {explained && <Explanation explained={explained} />}
        </section>
        <section aria-label="Result">
          <Box component="h2" sx={{ typography: "h2", m: 0, mb: 1 }}>Result</Box>
          {failure && <Alert severity="error" data-test="failure">{failure}</Alert>}
          {!result && !failure && <Box sx={{ color: "text.secondary" }}>Send the request to see the responses.</Box>}
          {result && busy && <LinearProgress variant="determinate" value={(100 * result.done) / result.planned} aria-label="Progress" sx={{ mb: 1 }} />}
          {result && <ResultView result={result} />}
        </section>
      </Box>
      <For who="editor"><StandIns /></For>
    </>
  );
}
