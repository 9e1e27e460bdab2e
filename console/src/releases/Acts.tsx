import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { actRelease, type Release } from "../api/client";

const acts: Record<string, { name: string; asks: (r: Release) => string; colour?: "error" | "warning" }> = {
  resume: { name: "Resume", asks: (r) => `${r.to} goes on: to the next stage if this one has shown what it had to.` },
  hold: { name: "Hold", asks: (r) => `${r.to} stays at the weight that it has until somebody resumes. It is judged all the same.` },
  skip: { name: "Skip the stage", asks: () => "The next stage begins at once, without the rest of this one being judged.", colour: "warning" },
  finish: { name: "Finish now", asks: (r) => `${r.to} takes over from ${r.from} at once, and is not judged any more.`, colour: "warning" },
  withdraw: { name: "Withdraw", asks: (r) => (r.state === "completed" ? `Everything goes back to ${r.from}, in the rules too.` : `Everything goes back to ${r.from} at once.`), colour: "error" },
};

/** What a person can do to a release, each after one more question. */
export function Acts({ release: r }: { release: Release }) {
  const [asked, setAsked] = useState("");
  const [why, setWhy] = useState("");
  const [trouble, setTrouble] = useState("");
  const act = acts[asked];
  const close = () => { setAsked(""); setWhy(""); setTrouble(""); };
  const go = async () => {
    try {
      await actRelease(r.number, asked, localStorage.getItem("nightjar.who") ?? "console", why);
      close();
    } catch (e) {
      setTrouble(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1 }}>
      {r.can.map((a) => (
        <Button key={a} size="small" variant={a === "resume" ? "contained" : "outlined"} {...(acts[a]?.colour ? { color: acts[a].colour } : {})} onClick={() => setAsked(a)} data-test={`act-${a}`}>{acts[a]?.name ?? a}</Button>
      ))}
      <Dialog open={!!act} onClose={close} aria-labelledby="act-title">
        <DialogTitle id="act-title">{act?.name}: {r.name}</DialogTitle>
        <DialogContent>
          <Box sx={{ mb: 1.5, maxWidth: 380 }}>{act?.asks(r)}</Box>
          {asked !== "resume" && asked !== "skip" && <TextField size="small" fullWidth label="Why (optional)" value={why} onChange={(e) => setWhy(e.target.value)} />}
          {trouble && <Alert severity="error" sx={{ mt: 1 }} data-test="act-trouble">{trouble}</Alert>}
        </DialogContent>
        <DialogActions>
          <Button onClick={close}>Leave it</Button>
          <Button variant="contained" {...(act?.colour ? { color: act.colour } : {})} onClick={() => void go()} data-test="act-confirm">{act?.name}</Button>
        </DialogActions>
      </Dialog>
    </Box>
  );
}
