import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, words, type AccessToken } from "../api/client";
import { Command } from "../kit/Command";

const roles: Record<string, string> = {
  viewer: "Viewer: looks at everything",
  editor: "Editor: changes rules, runs trials, releases and drills",
  admin: "Admin: people, proxies that join, the authority",
};

const secondsOfDay = 86_400;

/** Makes an access token, and shows its text this once. */
export function NewToken({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState("editor");
  const [days, setDays] = useState("90");
  const [teams, setTeams] = useState("");
  const [made, setMade] = useState<AccessToken | null>(null);
  const [error, setError] = useState("");
  const [isBusy, setBusy] = useState(false);
  const listed = teams.split(/[\s,]+/).filter(Boolean);
  const make = async () => {
    setBusy(true);
    setError("");
    try {
      setMade(await take(api.POST("/api/v1/access-tokens", { body: { name: name.trim(), role, ...(role !== "admin" && listed.length ? { teams: listed } : {}), forSeconds: Math.round(Number(days) * secondsOfDay) } })));
      await client.invalidateQueries();
    } catch (e) {
      setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  return (
    <Dialog open onClose={made ? undefined : onClose} aria-labelledby="new-token" fullWidth maxWidth="sm" transitionDuration={{ enter: 150, exit: 0 }}>
      <DialogTitle id="new-token" variant="h2" component="h2">{made ? `The token of ${made.name}` : "New access token"}</DialogTitle>
      {made ? (
        <DialogContent data-test="made-token">
          <Alert severity="warning">Copy it now: it is shown this once. Whoever has it acts as {made.name}, {made.role}.</Alert>
          <Command line={made.token ?? ""} />
          <Box sx={{ mt: 2, color: "text.secondary" }}>They sign in here with it, or in a terminal:</Box>
          <Command line={`nightjar sign-in --server ${location.origin}`} />
        </DialogContent>
      ) : (
        <DialogContent>
          <Box component="form" id="token-form" onSubmit={(e) => { e.preventDefault(); void make(); }} sx={{ display: "grid", gap: 2, pt: 1 }}>
            <TextField autoFocus label="Name" value={name} onChange={(e) => setName(e.target.value)} helperText="Of the person or program. It is in the records of all that they do." slotProps={{ htmlInput: { "data-test": "token-name", maxLength: 63 } }} />
            <TextField select label="Role" value={role} onChange={(e) => setRole(e.target.value)} data-test="token-role">
              {Object.entries(roles).map(([value, text]) => <MenuItem key={value} value={value}>{text}</MenuItem>)}
            </TextField>
            <TextField label="Teams (optional)" placeholder="timetable, money" value={teams} disabled={role === "admin"} onChange={(e) => setTeams(e.target.value)} helperText={role === "admin" ? "An admin is of the platform." : "Of the rules. They see and change the part of these teams alone; without one, everything."} slotProps={{ inputLabel: { shrink: true }, htmlInput: { "data-test": "token-teams" } }} />
            <TextField label="Good for, in days" type="number" value={days} onChange={(e) => setDays(e.target.value)} helperText="At most 400" slotProps={{ htmlInput: { min: 1, max: 400 } }} />
            {error && <Alert severity="error" data-test="token-error">{error}</Alert>}
          </Box>
        </DialogContent>
      )}
      <DialogActions>
        <Button onClick={onClose} data-test="token-close">{made ? "I have copied it" : "Cancel"}</Button>
        {!made && <Button type="submit" form="token-form" variant="contained" disabled={isBusy || !name.trim() || !(Number(days) > 0)} data-test="token-make">Make the token</Button>}
      </DialogActions>
    </Dialog>
  );
}
