import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState, useSyncExternalStore } from "react";
import { queries, words, type AccessToken, type Session } from "../api/client";
import { may, onWho, whoNow } from "../api/who";
import { CopyAsCommand } from "../kit/Command";
import { DataTable, type Column } from "../kit/DataTable";
import { ago, day, moment } from "../kit/format";
import { Heading, PageHeader } from "../kit/PageHeader";
import { browserOf } from "./browser";
import { EndSession, RevokeToken } from "./Ends";
import { NewToken } from "./NewToken";

/** Who may use the service: access tokens, and who is signed in. */
export function PeoplePage() {
  const { who } = useSyncExternalStore(onWho, whoNow);
  const isAdmin = who !== null && may(who, "admin");
  const [isMaking, setMaking] = useState(false);
  return (
    <>
      <PageHeader
        title="People" about={isAdmin ? "Who may use this service, and who is signed in." : "Where you are signed in. An admin makes and revokes access tokens."}
        actions={
          <>
            <CopyAsCommand line={isAdmin ? "nightjar token list" : "nightjar session list"} />
            {isAdmin && <Button variant="contained" onClick={() => setMaking(true)} data-test="new-token">New access token</Button>}
          </>
        }
      />
      {isAdmin && <Tokens />}
      <Sessions isAdmin={isAdmin} />
      {isMaking && <NewToken onClose={() => setMaking(false)} />}
    </>
  );
}

function Tokens() {
  const { data, error, dataUpdatedAt } = queries.useQuery("get", "/api/v1/access-tokens", {}, { refetchInterval: 5000 });
  const [revoked, setRevoked] = useState<AccessToken | null>(null);
  return (
    <>
      <Heading>Access tokens</Heading>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{words(error)}</Alert>}
      <DataTable name="tokens" columns={tokenColumns(dataUpdatedAt, setRevoked)} rows={data?.tokens ?? []} idOf={(t) => t.id} empty={data ? "There are none. The user of the service's machine needs none; everybody else does." : "Loading"} />
      {revoked && <RevokeToken token={revoked} onClose={() => setRevoked(null)} />}
    </>
  );
}

const tokenColumns = (now: number, onRevoke: (t: AccessToken) => void): Column<AccessToken>[] => [
  { field: "name", headerName: "Name", flex: 1, minWidth: 140, cellClassName: "strong" },
  { field: "role", headerName: "Role", width: 90 },
  { field: "teams", headerName: "Teams", width: 120, valueGetter: (_, t) => t.teams?.join(", ") ?? "" },
  { field: "id", headerName: "Token", width: 100 },
  { field: "expires", headerName: "Good until", width: 130, valueFormatter: (v: string) => (Date.parse(v) < now ? "ran out" : day(v)), cellClassName: ({ row }) => (Date.parse(row.expires) < now ? "bad" : "") },
  { field: "used", headerName: "Last used", width: 120, valueGetter: (_, t) => t.used ?? "", valueFormatter: (v: string) => (v ? ago(now - Date.parse(v)) : "never"), cellClassName: ({ row }) => (row.used ? "" : "nothing") },
  { field: "by", headerName: "Made by", width: 120 },
  { field: "revoke", headerName: "Action", width: 100, sortable: false, filterable: false, renderCell: ({ row }) => <Button color="error" onClick={() => onRevoke(row)} data-test={`revoke-${row.name}`}>Revoke</Button> },
];

function Sessions({ isAdmin }: { isAdmin: boolean }) {
  const { data, error, dataUpdatedAt } = queries.useQuery("get", "/api/v1/sessions", {}, { refetchInterval: 5000 });
  const [ended, setEnded] = useState<Session | null>(null);
  return (
    <>
      <Heading>{isAdmin ? "Signed in to the console" : "Your sessions"}</Heading>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>{words(error)}</Alert>}
      <DataTable name="sessions" columns={sessionColumns(dataUpdatedAt, setEnded)} rows={data?.sessions ?? []} idOf={(s) => s.id} empty={data ? "Nobody is signed in. You are here with a token." : "Loading"} />
      <Box sx={{ mt: 1, color: "text.secondary" }}>A session lasts 12 hours, and no longer than the token that it came from.</Box>
      {ended && <EndSession session={ended} onClose={() => setEnded(null)} />}
    </>
  );
}

const sessionColumns = (now: number, onEnd: (s: Session) => void): Column<Session>[] => [
  { field: "name", headerName: "Name", flex: 1, minWidth: 120, cellClassName: "strong", valueFormatter: (v: string) => v, renderCell: ({ row }) => (row.isCurrent ? `${row.name} (here)` : row.name) },
  { field: "role", headerName: "Role", width: 90 },
  { field: "teams", headerName: "Teams", width: 110, valueGetter: (_, s) => s.teams?.join(", ") ?? "" },
  { field: "of", headerName: "Of", width: 150, valueGetter: (_, s) => s.of ?? "this machine" },
  { field: "address", headerName: "From", width: 130, valueGetter: (_, s) => s.address ?? "the socket" },
  { field: "program", headerName: "Browser", flex: 1, minWidth: 160, valueGetter: (_, s) => browserOf(s.program ?? ""), renderCell: ({ row, value }) => <span title={row.program}>{value}</span> },
  { field: "used", headerName: "Last used", width: 110, valueFormatter: (v: string) => ago(now - Date.parse(v)) },
  { field: "expires", headerName: "Until", width: 130, valueFormatter: (v: string) => moment(v) },
  { field: "end", headerName: "Action", width: 90, sortable: false, filterable: false, renderCell: ({ row }) => <Button color="error" onClick={() => onEnd(row)} data-test={`end-${row.id}`}>End</Button> },
];
