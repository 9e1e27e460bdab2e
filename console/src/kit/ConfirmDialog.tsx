import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useRef, useState } from "react";
import { words } from "../api/client";
import type { ConfirmProps } from "./Confirm";

/** The dialog of Confirm. */
export default function ConfirmDialog({ act, of, children, colour, reason = false, onClose, onGo }: ConfirmProps) {
  const [why, setWhy] = useState("");
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const running = useRef(false); // a second click comes before the button is drawn as disabled
  const close = () => {
    if (running.current) return;
    onClose();
  };
  const go = async () => {
    if (running.current) return;
    running.current = true;
    setBusy(true);
    setError("");
    try {
      await onGo(why);
      onClose();
    } catch (e) {
      setError(words(e));
    } finally {
      running.current = false;
      setBusy(false);
    }
  };
  return (
    <Dialog open onClose={close} aria-labelledby="confirm-title" transitionDuration={{ enter: 150, exit: 0 }}>
      <DialogTitle id="confirm-title" variant="h2" component="h2">{act}: {of}</DialogTitle>
      <DialogContent>
        <Box sx={{ mb: 1.5, maxWidth: 420 }}>{children}</Box>
        {reason && <TextField fullWidth label="Reason (optional)" value={why} onChange={(e) => setWhy(e.target.value)} />}
        {error && <Alert severity="error" sx={{ mt: 1 }} data-test="act-error">{error}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button onClick={close} disabled={busy}>Cancel</Button>
        <Button variant="contained" {...(colour ? { color: colour } : {})} disabled={busy} onClick={() => void go()} data-test="act-confirm">{busy ? "Working" : act}</Button>
      </DialogActions>
    </Dialog>
  );
}
