import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useState, type ReactNode } from "react";

interface Props {
  /** The action, as the button names it; empty: none. */
  act: string;
  /** What the action is about. */
  of: string;
  /** What the action does. */
  children: ReactNode;
  colour?: "error" | "warning" | undefined;
  /** A reason can be given. */
  reason?: boolean;
  onClose: () => void;
  /** Carries out the action; an error is shown, and the dialog stays. */
  onGo: (why: string) => Promise<void>;
}

/** Asks for confirmation before an action. */
export function Confirm({ act, of, children, colour, reason = false, onClose, onGo }: Props) {
  const [why, setWhy] = useState("");
  const [error, setError] = useState("");
  const close = () => { setWhy(""); setError(""); onClose(); };
  const go = async () => {
    try {
      await onGo(why);
      close();
    } catch (e) {
      setError(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <Dialog open={act !== ""} onClose={close} aria-labelledby="confirm-title" transitionDuration={{ enter: 150, exit: 0 }}>
      <DialogTitle id="confirm-title">{act}: {of}</DialogTitle>
      <DialogContent>
        <Box sx={{ mb: 1.5, maxWidth: 420 }}>{children}</Box>
        {reason && <TextField size="small" fullWidth label="Reason (optional)" value={why} onChange={(e) => setWhy(e.target.value)} />}
        {error && <Alert severity="error" sx={{ mt: 1 }} data-test="act-error">{error}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Cancel</Button>
        <Button variant="contained" {...(colour ? { color: colour } : {})} onClick={() => void go()} data-test="act-confirm">{act}</Button>
      </DialogActions>
    </Dialog>
  );
}
