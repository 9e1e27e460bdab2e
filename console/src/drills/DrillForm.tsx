import Alert from "@mui/material/Alert";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { api, words, type Mesh, type Schemas } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";

const shown = { select: { displayEmpty: true }, inputLabel: { shrink: true } };

const servicesOf = (mesh: Mesh | null) =>
  (mesh?.services ?? []).map((s) => ({ name: s.name, versions: s.versions.map((v) => ({ name: v.name, instances: v.instances.map((i) => ({ id: i.id, site: i.site ?? "" })) })) }));

/** The command that starts the same drill. */
function lineOf(q: Schemas["DrillRequest"]): string {
  const flags = (["service", "version", "instance", "site", "fail", "delay", "when", "for"] as const).flatMap((name) => (q[name] ? [`--${name} ${shellWord(q[name])}`] : []));
  return ["nightjar drill start", ...flags, ...(q.down ? ["--down"] : [])].join(" ");
}

/** Starts a drill. Running drills are shown on every page. */
export function DrillForm() {
  const services = useMesh(servicesOf);
  const [params, change] = useAddress();
  const [version, setVersion] = useState("");
  const [where, setWhere] = useState("");
  const [how, setHow] = useState("fail");
  const [amount, setAmount] = useState("30%");
  const [when, setWhen] = useState("");
  const [length, setLength] = useState("30s");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  const name = params.get("service") ?? services[0]?.name ?? "";
  const service = services.find((s) => s.name === name);
  const choose = (next: string) => {
    setHow(next);
    setAmount(next === "fail" ? "30%" : next === "delay" ? "2s" : "");
  };
  const instances = (service?.versions ?? []).filter((v) => !version || v.name === version).flatMap((v) => v.instances);
  const sites = [...new Set(instances.map((i) => i.site))].filter(Boolean).sort();
  const [kind, place] = where.split(" ");
  const body: Schemas["DrillRequest"] = {
    service: name, for: length, ...(version ? { version } : {}), ...(place ? { [kind ?? ""]: place } : {}), ...(when && how !== "down" ? { when } : {}),
    ...(how === "fail" ? { fail: amount } : how === "delay" ? { delay: amount } : { down: true }),
  };
  const start = async () => {
    setBusy(true);
    setError("");
    try {
      await api.POST("/api/v1/drills", { body });
    } catch (e) {
      setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  return (
    <Paper component="form" variant="outlined" sx={{ p: 1.5, display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }} onSubmit={(e) => { e.preventDefault(); void start(); }} data-test="drill-form">
      <TextField select label="Service" value={service ? name : ""} onChange={(e) => { change({ service: e.target.value }); setVersion(""); setWhere(""); }} sx={{ width: 150 }}>
        {services.map((s) => <MenuItem key={s.name} value={s.name}>{s.name}</MenuItem>)}
      </TextField>
      <TextField select label="Version" value={version} onChange={(e) => { setVersion(e.target.value); setWhere(""); }} sx={{ width: 100 }} slotProps={shown}>
        <MenuItem value="">all</MenuItem>
        {(service?.versions ?? []).map((v) => <MenuItem key={v.name} value={v.name}>{v.name}</MenuItem>)}
      </TextField>
      <TextField select label="Where" value={where} onChange={(e) => setWhere(e.target.value)} sx={{ width: 170 }} slotProps={shown}>
        <MenuItem value="">everywhere</MenuItem>
        {sites.map((s) => <MenuItem key={s} value={`site ${s}`}>site {s}</MenuItem>)}
        {instances.map((i) => <MenuItem key={i.id} value={`instance ${i.id}`}>{i.id}</MenuItem>)}
      </TextField>
      <TextField select label="Fault" value={how} onChange={(e) => choose(e.target.value)} sx={{ width: 120 }}>
        <MenuItem value="fail">fail</MenuItem>
        <MenuItem value="delay">delay</MenuItem>
        <MenuItem value="down">take down</MenuItem>
      </TextField>
      {how !== "down" && <TextField label={how === "fail" ? "Share of attempts" : "Delay"} value={amount} onChange={(e) => setAmount(e.target.value)} sx={{ width: 120 }} />}
      {how !== "down" && <TextField label="Only when (optional)" placeholder={'headers: {x-crew: "yes"}'} value={when} onChange={(e) => setWhen(e.target.value)} sx={{ width: 230 }} slotProps={{ inputLabel: { shrink: true } }} />}
      <TextField label="Duration" value={length} onChange={(e) => setLength(e.target.value)} sx={{ width: 84 }} helperText="" />
      <Button type="submit" variant="contained" color="warning" disabled={busy || !service} data-test="drill-start">Start drill</Button>
      <CopyAsCommand line={lineOf(body)} />
      {error && <Alert severity="error" sx={{ width: "100%" }} data-test="drill-refused">{error}</Alert>}
    </Paper>
  );
}
