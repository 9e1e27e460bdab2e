import { keepPreviousData } from "@tanstack/react-query";
import { queries, type ActivityEntry } from "../api/client";
import { DataTable, type Column } from "../kit/DataTable";
import { moment } from "../kit/format";

const columns: Column<ActivityEntry>[] = [
  { field: "at", headerName: "Time", width: 140, valueFormatter: (v: string) => moment(v) },
  { field: "who", headerName: "Who", width: 140 },
  { field: "kind", headerName: "What", width: 160, cellClassName: "strong" },
  { field: "about", headerName: "About", width: 170, valueGetter: (_, e) => e.instance ?? [e.service, e.version].filter(Boolean).join("/") },
  { field: "detail", headerName: "Detail", flex: 1, minWidth: 260 },
];

interface Props {
  service?: string;
  /** How many entries at most, 1 to 200. */
  limit: number;
  only?: (e: ActivityEntry) => boolean;
  height?: number;
  empty: string;
}

/** What people changed and what proxies reported, newest first. */
export function ActivityList({ service, limit, only, height, empty }: Props) {
  const { data } = queries.useQuery("get", "/api/v1/activity", { params: { query: { limit, ...(service ? { service } : {}) } } }, {
    refetchInterval: 2000, ...(service ? {} : { placeholderData: keepPreviousData }),
  });
  const list = data?.activity ?? [];
  return (
    <div data-test="activity">
      <DataTable
        name={service ? `activity of ${service}` : "activity"} columns={columns} rows={only ? list.filter(only) : list} idOf={(e) => String(e.number)} isTall
        empty={data ? empty : "Loading"} {...(height ? { height } : {})}
      />
    </div>
  );
}
