import Add from "@mui/icons-material/Add";
import Close from "@mui/icons-material/Close";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import IconButton from "@mui/material/IconButton";
import Tab from "@mui/material/Tab";
import Tabs from "@mui/material/Tabs";
import TextField from "@mui/material/TextField";
import Tooltip from "@mui/material/Tooltip";
import { useState } from "react";
import type { RuleFile } from "../api/client";

interface Props {
  files: RuleFile[];
  active: number;
  /** Mistakes of each file. */
  counts: number[];
  onPick: (index: number) => void;
  /** Absent: files are neither added nor removed. */
  onChange?: ((files: RuleFile[], pick: number) => void) | undefined;
}

/** The files of a bundle as tabs; files can be added and removed. */
export function Files({ files, active, counts, onPick, onChange }: Props) {
  const [name, setName] = useState<string | null>(null);
  const taken = files.some((f) => f.name === name?.trim());
  const add = () => {
    const n = name?.trim();
    if (!n || taken) return;
    onChange?.([...files, { name: n, text: "services:\n" }], files.length);
    setName(null);
  };
  const gone = files[active];
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", borderBottom: 1, borderColor: "divider", pr: 1 }}>
      <Tabs value={files.length ? active : false} onChange={(_, i: number) => onPick(i)} variant="scrollable" sx={{ minHeight: 38, flex: 1, "& .MuiTab-root": { minHeight: 38, py: 0, textTransform: "none" } }}>
        {files.map((f, i) => <Tab key={f.name} label={`${f.name}${counts[i] ? ` (${counts[i]})` : ""}`} />)}
      </Tabs>
      {!onChange ? null : name === null ? (
        <>
          <Button startIcon={<Add />} onClick={() => setName("")} data-test="add-file">File</Button>
          {gone && (
            <Tooltip title={`Remove ${gone.name} from the bundle`}>
              <IconButton size="small" aria-label={`Remove ${gone.name} from the bundle`} onClick={() => onChange(files.filter((_, i) => i !== active), 0)}><Close fontSize="small" /></IconButton>
            </Tooltip>
          )}
        </>
      ) : (
        <Box component="form" onSubmit={(e) => { e.preventDefault(); add(); }} sx={{ display: "flex", gap: 1, py: 0.5 }}>
          <TextField autoFocus label="File name" placeholder="fares.yaml" value={name} onChange={(e) => setName(e.target.value)} error={taken} helperText={taken ? "this name is in use" : undefined} />
          <Button type="submit" disabled={!name.trim() || taken}>Add</Button>
          <Button onClick={() => setName(null)}>Cancel</Button>
        </Box>
      )}
    </Box>
  );
}
