import Box from "@mui/material/Box";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { type } from "../kit/theme";
import { Preview } from "../change/Preview";

/** Forecast of another queue for each version of a service. To put it in force, write it into the rules. */
export function GuardPreview({ service }: { service: string }) {
  const [inFlight, setInFlight] = useState("20");
  const [waiting, setWaiting] = useState("10");
  const good = (text: string, least: number) => /^\d{1,6}$/.test(text) && Number(text) >= least;
  return (
    <Box sx={{ mt: 1.5 }} data-test="guard-preview">
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, alignItems: "center" }}>
        <Box sx={{ color: "text.secondary" }}>Forecast a queue:</Box>
        <TextField label="In flight" value={inFlight} error={!good(inFlight, 1)} onChange={(e) => setInFlight(e.target.value)} sx={{ width: 90 }} slotProps={{ htmlInput: { "data-test": "guard-in-flight", inputMode: "numeric" } }} />
        <TextField label="Waiting" value={waiting} error={!good(waiting, 0)} onChange={(e) => setWaiting(e.target.value)} sx={{ width: 90 }} slotProps={{ htmlInput: { inputMode: "numeric" } }} />
        <Box sx={{ color: "text.secondary", fontSize: type.small }}>for each calling proxy and version; guard: {"{"}in-flight: {inFlight}, waiting: {waiting}{"}"}</Box>
      </Box>
      <Preview
        body={{ guard: { service, inFlight: Number(inFlight), waiting: Number(waiting) } }} disabled={!good(inFlight, 1) || !good(waiting, 0)}
        only={(r) => r.kind === "mesh" || r.kind === "caller" || (r.kind === "service" && r.name === service) || (r.kind === "version" && r.name.startsWith(`${service}/`))}
      />
    </Box>
  );
}
