import Person from "@mui/icons-material/PersonOutlined";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Popover from "@mui/material/Popover";
import TextField from "@mui/material/TextField";
import { useState, useSyncExternalStore } from "react";
import { author, onAuthor, setAuthor } from "../api/author";

const longest = 60; // characters of a name

/** Who acts: the name that publishes, splits, drills and drafts have. */
export function Who() {
  const name = useSyncExternalStore(onAuthor, author);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [text, setText] = useState(name);
  const save = () => {
    const next = text.trim().slice(0, longest);
    if (next) setAuthor(next);
    setAnchor(null);
  };
  return (
    <>
      <Button
        color="inherit" startIcon={<Person fontSize="small" />} aria-label={`You act as ${name}`} data-test="who" sx={{ maxWidth: { xs: 90, sm: 150 } }}
        onClick={(e) => { setText(name); setAnchor(e.currentTarget); }}
      >
        <Box component="span" sx={{ overflow: "hidden", textOverflow: "ellipsis" }}>{name}</Box>
      </Button>
      <Popover open={anchor !== null} anchorEl={anchor} onClose={save} anchorOrigin={{ vertical: "bottom", horizontal: "right" }} transformOrigin={{ vertical: "top", horizontal: "right" }} transitionDuration={0}>
        <Box component="form" onSubmit={(e) => { e.preventDefault(); save(); }} sx={{ p: 2, display: "grid", gap: 1, width: 280 }}>
          <TextField autoFocus label="Your name" value={text} onChange={(e) => setText(e.target.value)} helperText="Publishes, splits, drills and drafts have this name." slotProps={{ htmlInput: { "data-test": "who-name", maxLength: longest } }} />
          <Button type="submit" variant="contained" disabled={!text.trim()}>Save</Button>
        </Box>
      </Popover>
    </>
  );
}
