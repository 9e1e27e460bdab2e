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
  /** What is about to be done, as the button says it; empty: nothing. */
  act: string;
  /** To what. */
  of: string;
  /** What it means. */
  children: ReactNode;
  colour?: "error" | "warning" | undefined;
  /** A reason can be given. */
  reason?: boolean;
  onClose: () => void;
  /** Does it; what it throws is shown, and the question stays. */
  onGo: (why: string) => Promise<void>;
}

/** One more question before something is done. */
export function Confirm({ act, of, children, colour, reason = false, onClose, onGo }: Props) {
  const [why, setWhy] = useState("");
  const [trouble, setTrouble] = useState("");
  const close = () => { setWhy(""); setTrouble(""); onClose(); };
  const go = async () => {
    try {
      await onGo(why);
      close();
    } catch (e) {
      setTrouble(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <Dialog open={act !== ""} onClose={close} aria-labelledby="confirm-title" transitionDuration={{ enter: 150, exit: 0 }}>
      <DialogTitle id="confirm-title">{act}: {of}</DialogTitle>
      <DialogContent>
        <Box sx={{ mb: 1.5, maxWidth: 420 }}>{children}</Box>
        {reason && <TextField size="small" fullWidth label="Why (optional)" value={why} onChange={(e) => setWhy(e.target.value)} />}
        {trouble && <Alert severity="error" sx={{ mt: 1 }} data-test="act-trouble">{trouble}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button onClick={close}>Leave it</Button>
        <Button variant="contained" {...(colour ? { color: colour } : {})} onClick={() => void go()} data-test="act-confirm">{act}</Button>
      </DialogActions>
    </Dialog>
  );
}
