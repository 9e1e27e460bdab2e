import Autocomplete, { createFilterOptions } from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import Dialog from "@mui/material/Dialog";
import TextField from "@mui/material/TextField";
import { useMemo, useState } from "react";

import type { Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useNavigate } from "../kit/address";
import { rangeSearch, useRange } from "../kit/range";
import { type } from "../kit/theme";
import { pages } from "./pages";

/** Something that the search finds. */
interface Found {
  kind: string;
  name: string;
  about: string;
  to: string;
}

const most = 40; // shown at once

function namesOf(mesh: Mesh | null) {
  return {
    services: (mesh?.services ?? []).map((s) => ({ name: s.name, owner: s.owner ?? "", routes: s.routes.map((r) => r.name) })),
    gateways: (mesh?.gateways ?? []).map((g) => ({ name: g.name, routes: g.routes.map((r) => r.name) })),
    releases: (mesh?.releases ?? []).map((r) => ({ name: r.name, number: r.number })),
    revision: mesh?.revision.number ?? 0,
  };
}

type Names = ReturnType<typeof namesOf>;

function everything(names: Names, search: string): Found[] {
  const at = (path: string, more = "") => path + (more ? `?${more}${search.replace("?", "&")}` : search);
  return [
    ...names.services.map((s): Found => ({ kind: "Service", name: s.name, about: s.owner, to: at(`/services/${s.name}`) })),
    ...names.gateways.map((g): Found => ({ kind: "Gateway", name: g.name, about: "", to: at(`/gateways/${g.name}`) })),
    ...pages.map((p): Found => ({ kind: "Page", name: p.name, about: p.about, to: at(p.to) })),
    ...names.services.flatMap((s) => s.routes.map((r): Found => ({ kind: "Route", name: `${s.name}/${r}`, about: "", to: at(`/services/${s.name}`, `tab=routes&route=${r}`) }))),
    ...names.gateways.flatMap((g) => g.routes.map((r): Found => ({ kind: "Route", name: `${g.name}/${r}`, about: "of a gateway", to: at(`/gateways/${g.name}`, `tab=routes&route=${r}`) }))),
    ...names.releases.map((r): Found => ({ kind: "Release", name: r.name, about: "running", to: `/releases/${r.number}` })),
    ...names.services.map((s): Found => ({ kind: "Action", name: `Start a drill on ${s.name}`, about: "", to: `/drills?service=${s.name}` })),
    ...names.services.map((s): Found => ({ kind: "Action", name: `Try a request to ${s.name}`, about: "", to: `/try?url=${encodeURIComponent(`http://${s.name}/`)}` })),
    { kind: "Action", name: "Edit and publish rules", about: "", to: "/rules" },
    { kind: "Action", name: "Forecast my draft", about: "", to: "/forecast?rules=draft" },
  ];
}

/** What a number or an id can be. */
function typed(text: string, newest: number): Found[] {
  const number = /^r?(\d{1,9})$/.exec(text.trim())?.[1];
  const trace = /^[0-9a-f]{6,32}$/.exec(text.trim())?.[0];
  return [
    ...(number && Number(number) >= 1 && Number(number) <= newest
      ? [
          { kind: "Revision", name: `r${number}`, about: "its effect", to: `/effects?revision=${number}` },
          { kind: "Revision", name: `r${number}`, about: "compared with the rules in force", to: `/rules?compare=${number}` },
        ]
      : []),
    ...(trace ? [{ kind: "Trace", name: trace, about: "", to: `/traces/${trace}` }] : []),
  ];
}

const filter = createFilterOptions<Found>({ limit: most, stringify: (f) => `${f.name} ${f.kind} ${f.about}` });

/** Finds services, routes, revisions, traces by id, pages and actions. */
export function Search({ onClose }: { onClose: () => void }) {
  const names = useMesh(namesOf);
  const go = useNavigate();
  const [text, setText] = useState("");
  const search = rangeSearch(useRange());
  const [lit, setLit] = useState<Found | null>(null); // by the arrow keys or the mouse
  const all = useMemo(() => everything(names, search), [names, search]);
  const found = useMemo(() => [...typed(text, names.revision), ...filter(all, { inputValue: text, getOptionLabel: (f) => f.name })], [all, text, names.revision]);
  const open = (f: Found | undefined | null) => {
    if (!f) return;
    onClose();
    go(f.to);
  };
  return (
    <Dialog open onClose={onClose} transitionDuration={0} fullWidth maxWidth="sm" aria-label="Search" sx={{ "& .MuiDialog-container": { alignItems: "flex-start" } }}>
      <Box sx={{ p: 1.5, minHeight: 380 }}>
        <Autocomplete<Found, false, false, true>
          open freeSolo disablePortal openOnFocus disableCloseOnSelect options={found} filterOptions={(list) => list} inputValue={text} onInputChange={(_, t) => setText(t)} value={null}
          onHighlightChange={(_, f) => setLit(f)}
          getOptionLabel={(f) => (typeof f === "string" ? f : f.name)}
          getOptionKey={(f) => (typeof f === "string" ? f : f.kind + f.name + f.about)}
          onChange={(_, f) => {
            if (typeof f !== "string") open(f);
          }}
          renderOption={(props, f) => {
            const { key, ...rest } = props;
            return (
              <Box component="li" key={key} {...rest} data-test="found" sx={{ display: "flex", gap: 1 }}>
                <Box component="span" sx={{ width: 72, flex: "none", color: "text.secondary", fontSize: type.small }}>{f.kind}</Box>
                <Box component="span" sx={{ fontWeight: 600 }}>{f.name}</Box>
                <Box component="span" sx={{ color: "text.secondary", fontSize: type.small, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>{f.about}</Box>
              </Box>
            );
          }}
          renderInput={(props) => <TextField {...props} autoFocus onKeyDown={(e) => { if (e.key === "Enter" && !lit) open(found[0]); }} label="Service, route, r12, trace id, page or action" />}
          slotProps={{ popper: { sx: { position: "static !important", transform: "none !important", width: "100% !important" } }, paper: { elevation: 0 }, listbox: { sx: { maxHeight: 320 } } }}
        />
      </Box>
    </Dialog>
  );
}
