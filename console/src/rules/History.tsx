import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { Link } from "wouter";
import { api, basedOn, queries, take, words, type Revision, type RuleFile } from "../api/client";
import { publishedText } from "../change/PublishedNotice";
import { Confirm } from "../kit/Confirm";
import { For } from "../kit/For";
import { DataTable, type Column } from "../kit/DataTable";
import { EmptyState } from "../kit/EmptyState";
import { moment } from "../kit/format";
import { Heading } from "../kit/PageHeader";
import { Difference } from "./Difference";

const texts = (files: RuleFile[] | undefined): string => (files ?? []).map((f) => `# ${f.name}\n${f.text}`).join("\n");

interface Props {
  current: number;
  bundle: string;
  inForce: Revision | undefined;
  /** The revision that is compared with the rules in force; 0: none. */
  open: number;
  onOpen: (number: number) => void;
}

const atFirst = 10; // revisions
const more = 50;
const most = 200; // that the service gives at once

/** Published revisions, newest first; each can be compared with the rules in force, and restored. */
export function History({ current, bundle, inForce, open, onOpen }: Props) {
  const [limit, setLimit] = useState(atFirst);
  const [asked, setAsked] = useState(0);
  const [outcome, setOutcome] = useState("");
  const { data, error } = queries.useQuery("get", "/api/v1/revisions", { params: { query: { limit } } }, { refetchInterval: 5000, placeholderData: (old) => old });
  const list = data?.revisions ?? [];
  const restore = async () => {
    const p = await take(api.POST("/api/v1/revisions/{number}/restore", {
      params: { path: { number: String(asked) }, header: basedOn(current) }, body: { message: `restore revision ${asked}` },
    }));
    setOutcome(p.unchanged ? publishedText(p) : `Revision ${asked} was restored. ${publishedText(p)}`);
  };
  return (
    <section aria-label="History">
      <Heading>History</Heading>
      {error && !data && <Alert severity="error" sx={{ mb: 1 }}>{words(error)}</Alert>}
      {outcome && <Alert severity="success" sx={{ mb: 1 }} data-test="restored" onClose={() => setOutcome("")}>{outcome}</Alert>}
      {open > 0 && <Compared number={open} current={current} bundle={bundle} inForce={inForce} onClose={() => onOpen(0)} />}
      {data && list.length === 0 && <EmptyState title="Nothing was published yet">Write rules above and publish them. Each publish is a revision, which can be compared, restored and judged by its effect.</EmptyState>}
      {list.length > 0 && <DataTable name="revisions" columns={columns(current, onOpen, setAsked)} rows={list} idOf={(r) => String(r.number)} isTall />}
      {data?.next && limit < most && <Button sx={{ mt: 1 }} onClick={() => setLimit(Math.min(most, limit + more))}>Show earlier</Button>}
      <Confirm act={asked ? "Restore" : ""} of={`revision ${asked}`} onClose={() => setAsked(0)} onGo={restore}>
        All bundles get the files of revision {asked} again, as a new revision on top of {current}. Rule files on disk are unchanged.
      </Confirm>
    </section>
  );
}

const columns = (current: number, onOpen: (n: number) => void, onRestore: (n: number) => void): Column<Revision>[] => [
  { field: "number", headerName: "Revision", width: 110, cellClassName: "strong", valueFormatter: (v: number) => `${v}${v === current ? " (in force)" : ""}` },
  { field: "at", headerName: "Time", width: 150, valueFormatter: (v: string) => moment(v) },
  { field: "kind", headerName: "Kind", width: 90 },
  { field: "bundle", headerName: "Bundle", width: 100, valueFormatter: (v: string, r) => v || (r.kind === "release" ? "–" : "all") },
  { field: "author", headerName: "Author", width: 120 },
  { field: "commit", headerName: "Commit", width: 110, valueFormatter: (v?: string) => v?.slice(0, 10) ?? "" },
  { field: "message", headerName: "Message", flex: 1, minWidth: 180 },
  {
    field: "actions", headerName: "Actions", width: 230, sortable: false, filterable: false, disableExport: true,
    renderCell: ({ row: r }) => (
      <Box sx={{ display: "flex", alignItems: "center", "& button": { minHeight: 24, py: 0 } }}>
        <Link to={`/effects?revision=${r.number}`} style={{ color: "inherit", marginRight: 8 }}>Effect</Link>
        {r.number !== current && (
          <>
            <Button onClick={() => onOpen(r.number)} data-test={`compare-${r.number}`}>Compare</Button>
            <For who="editor"><Button onClick={() => onRestore(r.number)} data-test={`restore-${r.number}`}>Restore</Button></For>
          </>
        )}
      </Box>
    ),
  },
];

/** A revision beside the rules in force. */
function Compared({ number, current, bundle, inForce, onClose }: { number: number; current: number; bundle: string; inForce: Revision | undefined; onClose: () => void }) {
  const { data, error } = queries.useQuery("get", "/api/v1/revisions/{number}", { params: { path: { number: String(number) } } }, { staleTime: Infinity });
  return (
    <Box sx={{ mb: 1.5 }} data-test="compared">
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 0.5 }}>
        <Box component="h3" sx={{ typography: "h3", m: 0 }}>Revision {number} and the rules in force</Box>
        <Button onClick={onClose} sx={{ ml: "auto" }}>Close</Button>
      </Box>
      {error && !data && <Alert severity="error">{words(error)}</Alert>}
      {data && <Difference left={texts(data.bundles?.[bundle])} right={texts(inForce?.bundles?.[bundle])} leftName={`revision ${number}`} rightName={`in force, revision ${current}`} />}
    </Box>
  );
}
