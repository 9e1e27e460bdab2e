import { keepPreviousData } from "@tanstack/react-query";
import { queries, type ActivityEntry } from "../api/client";
import { useAddress } from "../kit/address";
import { DataTable, type Column } from "../kit/DataTable";
import { moment } from "../kit/format";
import { ChangesDrawer } from "./ChangesDrawer";
import { EntryDrawer } from "./EntryDrawer";

const columns: Column<ActivityEntry>[] = [
  { field: "at", headerName: "Time", width: 140, valueFormatter: (v: string) => moment(v) },
  { field: "who", headerName: "Who", width: 120 },
  { field: "kind", headerName: "What", width: 150, cellClassName: ({ row }) => (row.result === "refused" || row.result === "failed" ? "strong bad" : "strong") },
  { field: "detail", headerName: "Detail", flex: 1, minWidth: 200 },
  { field: "about", headerName: "About", width: 160, valueGetter: (_, e) => e.instance ?? [e.service, e.version].filter(Boolean).join("/") },
];

export interface ActivityFilter {
  service?: string;
  site?: string;
  who?: string;
  what?: string;
  about?: string;
}

interface Props {
  filter: ActivityFilter;
  /** How many entries at most, 1 to 200. */
  limit: number;
  height?: number | string;
  empty: string;
}

/** What people changed and what proxies reported, newest first. A revision opens with what it changed. */
export function ActivityList({ filter, limit, height, empty }: Props) {
  const [params, change] = useAddress();
  const { data } = queries.useQuery("get", "/api/v1/activity", { params: { query: { limit, ...filter } } }, { refetchInterval: 2000, placeholderData: keepPreviousData });
  const revision = Number(params.get("changes"));
  const entry = data?.activity.find((e) => String(e.number) === params.get("entry"));
  return (
    <div data-test="activity">
      <DataTable
        name={filter.service ? `activity of ${filter.service}` : "activity"} columns={columns} rows={data?.activity ?? []} idOf={(e) => String(e.number)} isTall
        onPick={(e) => change(e.revision ? { changes: String(e.revision), entry: null } : { changes: null, entry: String(e.number) })} empty={data ? empty : "Loading"} {...(height ? { height } : {})}
      />
      {entry && <EntryDrawer entry={entry} onClose={() => change({ entry: null })} />}
      {revision > 0 && <ChangesDrawer revision={revision} onClose={() => change({ changes: null })} />}
    </div>
  );
}
