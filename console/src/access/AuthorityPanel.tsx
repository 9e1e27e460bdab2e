import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import { useState } from "react";
import { api, queries, words, type Authority, type Proxy } from "../api/client";
import { useFleet } from "../fleet/useFleet";
import { Confirm } from "../kit/Confirm";
import { DataTable, type Column } from "../kit/DataTable";
import { FactTable } from "../kit/FactTable";
import { For } from "../kit/For";
import { day, plural } from "../kit/format";

const phases: Record<string, string> = {
  announcing: "A new root is being introduced, step 1 of 3: all proxies are told to trust it too.",
  signing: "A new root is being introduced, step 2 of 3: all proxies get certificates of it.",
  retiring: "A new root is being introduced, step 3 of 3: all proxies are told to forget the old one.",
};

/** Who signs certificates, and the certificates of all proxies. */
export function AuthorityPanel() {
  const { data: authority, error } = queries.useQuery("get", "/api/v1/authority", {}, { refetchInterval: 2000 });
  const { fleet, at } = useFleet();
  const [act, setAct] = useState("");
  const certified = (fleet?.proxies ?? []).filter((p) => p.certificate);
  return (
    <Paper variant="outlined" sx={{ p: 1.5 }} data-test="authority">
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "baseline", columnGap: 1.5 }}>
        <Box component="h2" sx={{ typography: "h2", m: 0 }}>Authority and certificates</Box>
        {authority && <Box sx={{ color: "text.secondary" }}>Trust domain {authority.domain}; certificates live {authority.lifeSeconds / 3600} h and are renewed at half of it.</Box>}
        <For who="admin"><Button sx={{ ml: "auto" }} disabled={authority?.phase !== "steady"} onClick={() => setAct("Replace")} data-test="rotate">Replace the root</Button></For>
      </Box>
      {error && <Alert severity="warning" sx={{ my: 1 }}>The authority cannot be read: {words(error)}</Alert>}
      {authority && authority.phase !== "steady" && (
        <Alert severity="info" sx={{ my: 1 }} data-test="phase">
          {phases[authority.phase] ?? authority.phase} {authority.waiting.length > 0 && `It waits for ${plural(authority.waiting.length, "proxy", "proxies")}: ${authority.waiting.slice(0, 5).join(", ")}.`}
        </Alert>
      )}
      {authority && <Roots authority={authority} />}
      <Box sx={{ mt: 1.5 }}>
        <DataTable name="certificates" columns={columns(at)} rows={certified} idOf={(p) => p.id} empty="No proxy has joined" />
      </Box>
      <Confirm act={act} of="the root of all certificates" colour="warning" onClose={() => setAct("")} onGo={async () => void (await api.POST("/api/v1/authority/rotate"))}>
        The service makes a new root and goes on by itself: all proxies trust both, get certificates of the new one, and forget the old one. No request fails. A proxy that is switched off meanwhile has to join again.
      </Confirm>
    </Paper>
  );
}

function Roots({ authority }: { authority: Authority }) {
  const rows = authority.roots.map((r) => ({
    key: r.fingerprint,
    cells: [r.name, r.signs ? "trusted, signs" : "trusted", day(r.expires), r.hasKey ? "here" : "elsewhere", <Box key="print" component="span" sx={{ fontFamily: "monospace", overflowWrap: "anywhere" }}>{r.fingerprint}</Box>],
  }));
  return <Box sx={{ mt: 1 }}><FactTable head={["Root", "State", "Good until", "Key", "Fingerprint (SHA-256)"]} rows={rows} /></Box>;
}

const hoursLeft = (p: Proxy, now: number): number => (Date.parse(p.certificate?.expires ?? "") - now) / 3_600_000;

const columns = (now: number): Column<Proxy>[] => [
  { field: "id", headerName: "Proxy", width: 150 },
  { field: "identity", headerName: "Identity", flex: 1, minWidth: 280, valueGetter: (_, p) => p.certificate?.identity ?? "" },
  { field: "left", headerName: "Good for", width: 100, type: "number", valueGetter: (_, p) => hoursLeft(p, now), valueFormatter: (v: number) => (v < 0 ? "ran out" : v < 1 ? `${Math.round(v * 60)} min` : `${v.toFixed(1)} h`), cellClassName: (c) => (hoursLeft(c.row, now) < 1 ? "bad" : "") },
  { field: "root", headerName: "Root", width: 100, valueGetter: (_, p) => (p.certificate?.isOld ? "old" : "current") },
  { field: "problem", headerName: "Renewal", width: 220, valueGetter: (_, p) => (p.problems ?? []).find((x) => x.kind === "identity")?.detail ?? "goes well", cellClassName: (c) => ((c.row.problems ?? []).some((x) => x.kind === "identity") ? "bad" : "") },
];
