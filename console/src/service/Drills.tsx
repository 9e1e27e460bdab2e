import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { startDrill, type Service } from "../api/client";

/** Starts a drill on the service. Running drills are shown on every page. */
export function DrillForm({ service }: { service: Service }) {
  const [open, setOpen] = useState(false);
  const [version, setVersion] = useState("");
  const [where, setWhere] = useState("");
  const [how, setHow] = useState("fail");
  const [amount, setAmount] = useState("30%");
  const [when, setWhen] = useState("");
  const [length, setLength] = useState("30s");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  const choose = (next: string) => {
    setHow(next);
    setAmount(next === "fail" ? "30%" : next === "delay" ? "2s" : "");
  };
  const instances = service.versions.filter((v) => !version || v.name === version).flatMap((v) => v.instances);
  const sites = [...new Set(instances.map((i) => i.site ?? ""))].filter(Boolean).sort();
  const [kind, place] = where.split(" ");
  const start = async () => {
    setBusy(true);
    setError("");
    try {
      await startDrill({
        service: service.name, for: length, by: "console",
        ...(version ? { version } : {}), ...(place ? { [kind ?? ""]: place } : {}), ...(when ? { when } : {}),
        ...(how === "fail" ? { fail: amount } : how === "delay" ? { delay: amount } : { down: true }),
      });
      setOpen(false);
    } catch (e) {
      setError(e instanceof Error ? e.message : String(e));
    } finally {
      setBusy(false);
    }
  };
  if (!open) return <Button variant="outlined" size="small" onClick={() => setOpen(true)} data-test="drill">Start drill</Button>;
  return (
    <Box component="form" sx={{ display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }} onSubmit={(e) => { e.preventDefault(); void start(); }} data-test="drill-form">
      <TextField select size="small" label="Version" value={version} onChange={(e) => { setVersion(e.target.value); setWhere(""); }} sx={{ width: 110 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
        <MenuItem value="">all</MenuItem>
        {service.versions.map((v) => <MenuItem key={v.name} value={v.name}>{v.name}</MenuItem>)}
      </TextField>
      <TextField select size="small" label="Where" value={where} onChange={(e) => setWhere(e.target.value)} sx={{ width: 190 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
        <MenuItem value="">everywhere</MenuItem>
        {sites.map((s) => <MenuItem key={s} value={`site ${s}`}>site {s}</MenuItem>)}
        {instances.map((i) => <MenuItem key={i.id} value={`instance ${i.id}`}>{i.id}</MenuItem>)}
      </TextField>
      <TextField select size="small" label="Fault" value={how} onChange={(e) => choose(e.target.value)} sx={{ width: 130 }}>
        <MenuItem value="fail">fail</MenuItem>
        <MenuItem value="delay">delay</MenuItem>
        <MenuItem value="down">take down</MenuItem>
      </TextField>
      {how !== "down" && <TextField size="small" label={how === "fail" ? "Share of attempts" : "Delay"} value={amount} onChange={(e) => setAmount(e.target.value)} sx={{ width: 110 }} />}
      {how !== "down" && <TextField size="small" label="Condition (optional)" placeholder={'headers: {x-crew: "yes"}'} value={when} onChange={(e) => setWhen(e.target.value)} sx={{ width: 230 }} />}
      <TextField size="small" label="Duration" value={length} onChange={(e) => setLength(e.target.value)} sx={{ width: 80 }} />
      <Button type="submit" variant="contained" color="warning" disabled={busy} data-test="drill-start">Start</Button>
      <Button onClick={() => { setOpen(false); setError(""); }}>Cancel</Button>
      {error && <Alert severity="error" sx={{ width: "100%" }} data-test="drill-refused">{error}</Alert>}
    </Box>
  );
}
