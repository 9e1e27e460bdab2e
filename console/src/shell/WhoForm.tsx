import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Popover from "@mui/material/Popover";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { author, setAuthor } from "../api/author";

const longest = 60; // characters of a name

/** Asks for the name of who acts. */
export default function WhoForm({ anchor, onClose }: { anchor: HTMLElement; onClose: () => void }) {
  const [text, setText] = useState(author);
  const save = () => {
    const next = text.trim().slice(0, longest);
    if (next) setAuthor(next);
    onClose();
  };
  return (
    <Popover open anchorEl={anchor} onClose={save} anchorOrigin={{ vertical: "bottom", horizontal: "right" }} transformOrigin={{ vertical: "top", horizontal: "right" }} transitionDuration={0}>
      <Box component="form" onSubmit={(e) => { e.preventDefault(); save(); }} sx={{ p: 2, display: "grid", gap: 1, width: 280 }}>
        <TextField autoFocus label="Your name" value={text} onChange={(e) => setText(e.target.value)} helperText="Publishes, splits, drills and drafts have this name." slotProps={{ htmlInput: { "data-test": "who-name", maxLength: longest } }} />
        <Button type="submit" variant="contained" disabled={!text.trim()}>Save</Button>
      </Box>
    </Popover>
  );
}
