import { useQuery } from "@tanstack/react-query";
import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { Link } from "wouter";
import { api, queries, take, words, type Drill } from "../api/client";
import { CopyAsCommand } from "../kit/Command";
import { DataTable, type Column } from "../kit/DataTable";
import { EmptyState } from "../kit/EmptyState";
import { For, Needs } from "../kit/For";
import { moment, percent, seconds } from "../kit/format";
import { Heading, PageHeader } from "../kit/PageHeader";
import { RunningDrill } from "../shell/Notices";
import { DrillForm } from "./DrillForm";

/** Drills: running ones, a form for the next, and past ones with what they did to success. */
export function DrillsPage() {
  const { data, error } = queries.useQuery("get", "/api/v1/drills", {}, { refetchInterval: 1500 });
  const list = data?.drills ?? [];
  const running = list.filter((d) => d.isRunning);
  const past = list.filter((d) => !d.isRunning);
  return (
    <>
      <PageHeader title="Drills" about="Inject failures for a limited time, and see what callers notice. Every drill ends by itself, in every proxy." actions={<CopyAsCommand line="nightjar drill list" />} />
      {error && !data && <Alert severity="error">{words(error)}</Alert>}
      {running.length > 0 && <Heading>Running</Heading>}
      {running.map((d) => <Box key={d.id} data-test={`running-${d.id}`} sx={{ borderTop: 1, borderColor: "divider", borderLeft: 3, borderLeftColor: "warning.main", pl: 1.5, py: 1, bgcolor: "background.paper" }}><RunningDrill drill={d} /></Box>)}
      <Heading>New drill</Heading>
      <For who="editor" instead={<Needs who="editor" to="to start drills" />}><DrillForm /></For>
      <Heading>Past</Heading>
      {data && past.length === 0 && <EmptyState title="No drill has ended yet">Choose a service above and start with a small share for 30 seconds. The effect page compares success before and during it.</EmptyState>}
      {past.length > 0 && <DataTable name="drills" columns={columns} rows={past} idOf={(d) => d.id} isTall />}
    </>
  );
}

const endOf = (d: Drill): number => Date.parse(d.stopped ?? d.ends) / 1000;

const columns: Column<Drill>[] = [
  { field: "id", headerName: "Drill", width: 90, cellClassName: "strong" },
  { field: "began", headerName: "Started", width: 110, valueFormatter: (v: string) => moment(v) },
  { field: "length", headerName: "Lasted", width: 80, type: "number", valueGetter: (_, d) => endOf(d) - Date.parse(d.began) / 1000, valueFormatter: (v: number) => seconds(v * 1000) },
  { field: "by", headerName: "By", width: 90 },
  { field: "target", headerName: "Target", width: 140 },
  { field: "what", headerName: "What", flex: 1, minWidth: 200, valueGetter: (_, d) => d.what + (d.when ? ` when ${d.when}` : "") },
  { field: "did", headerName: "Success before → during", width: 190, sortable: false, filterable: false, disableExport: true, renderCell: ({ row }) => <Did drill={row} /> },
  { field: "effect", headerName: "Effect", width: 90, sortable: false, filterable: false, disableExport: true, renderCell: ({ row }) => <Link to={`/effects?at=${Math.floor(Date.parse(row.began) / 1000)}`} style={{ color: "inherit" }}>compare</Link> },
];

/** Success of the requests to the target, as long before the drill as it lasted, and while it ran. */
function Did({ drill: d }: { drill: Drill }) {
  const from = Math.floor(Date.parse(d.began) / 1000);
  const to = Math.ceil(endOf(d));
  const { data } = useQuery({
    queryKey: ["drill", d.id, to],
    queryFn: ({ signal }) => {
      const of = { ...(d.service ? { service: d.service } : {}), ...(d.version ? { version: d.version } : {}) };
      return take(api.GET("/api/v1/timeline", { params: { query: { ...of, from: from - Math.max(30, to - from), to, step: 5 } }, signal }));
    },
    staleTime: Infinity,
  });
  if (!data) return null;
  const success = (points: typeof data.points): number | null => {
    const all = points.reduce((sum, p) => sum + p.ok + p.failed + p.refused, 0);
    return all > 0 ? points.reduce((sum, p) => sum + p.ok, 0) / all : null;
  };
  const before = success(data.points.filter((p) => p.at + 5 <= from));
  const during = success(data.points.filter((p) => p.at >= from));
  const isWorse = before !== null && during !== null && during < before - 0.01;
  return <Box component="span" sx={{ color: isWorse ? "error.main" : "text.primary", fontWeight: isWorse ? 650 : 400 }}>{isWorse && "▼ "}{percent(before)} → {percent(during)}</Box>;
}
