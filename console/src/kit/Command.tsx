import Check from "@mui/icons-material/Check";
import Copy from "@mui/icons-material/ContentCopy";
import Terminal from "@mui/icons-material/Terminal";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import IconButton from "@mui/material/IconButton";
import Tooltip from "@mui/material/Tooltip";
import { useState } from "react";
import { Aside } from "./Aside";
import { type } from "./theme";

/** Copies text, and is true for two seconds afterwards. */
function useCopy(text: string): [copied: boolean, copy: () => void] {
  const [copied, setCopied] = useState(false);
  const copy = () => {
    void navigator.clipboard.writeText(text).then(() => {
      setCopied(true);
      window.setTimeout(() => setCopied(false), 2000);
    });
  };
  return [copied, copy];
}

/** A command line with a button that copies it. */
export function Command({ line }: { line: string }) {
  const [copied, copy] = useCopy(line);
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 1, mt: 1, pl: 1.5, border: 1, borderColor: "divider", borderRadius: 1, bgcolor: "background.paper" }}>
      <Box component="code" sx={{ flex: 1, minWidth: 0, overflowWrap: "anywhere", fontFamily: "monospace", fontSize: type.small }}>{line}</Box>
      <IconButton size="small" onClick={copy} aria-label={`Copy the command ${line}`}>{copied ? <Check fontSize="small" /> : <Copy fontSize="small" />}</IconButton>
      <Aside>{copied ? "Copied" : ""}</Aside>
    </Box>
  );
}

/** A word for the shell: quoted if it must be. */
export const shellWord = (word: string): string => (/^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", `'\\''`)}'`);

/** Copies the command of nightjar that shows or does the same as the page. */
export function CopyAsCommand({ line }: { line: string }) {
  const [copied, copy] = useCopy(line);
  return (
    <Tooltip title={copied ? "Copied" : line}>
      <Button onClick={copy} color="inherit" startIcon={<Terminal fontSize="small" />} data-test="copy-command" data-line={line} sx={{ color: "text.secondary" }}>
        {copied ? "Copied" : "Copy as command"}
      </Button>
    </Tooltip>
  );
}
