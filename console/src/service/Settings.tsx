import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { queries, words, type Schemas } from "../api/client";
import { DataTable, type Column } from "../kit/DataTable";
import { Heading } from "../kit/PageHeader";
import { Place } from "../kit/Place";

type Setting = Schemas["Setting"];

const columns: Column<Setting>[] = [
  { field: "name", headerName: "Setting", width: 170, cellClassName: "strong" },
  { field: "value", headerName: "Value", flex: 1, minWidth: 220 },
  { field: "from", headerName: "Set by", width: 240 },
  { field: "at", headerName: "Where", width: 180, valueGetter: (_, s) => (s.at.file ? `${s.at.file}:${s.at.line ?? ""}` : ""), renderCell: ({ row }) => <Place at={row.at} /> },
];

/** The settings that hold for a service and its routes, with the level that sets each. */
export function Settings({ service }: { service: string }) {
  const { data, error } = queries.useQuery("get", "/api/v1/services/{service}/effective", { params: { path: { service } } }, { refetchInterval: 5000 });
  if (!data) return error ? <Alert severity="error">{words(error)}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the settings</Box>;
  return (
    <>
      <Box sx={{ color: "text.secondary", mb: 1 }}>Of the service, unless a route says otherwise. A place leads to its line in the editor.</Box>
      <DataTable name={`settings of ${service}`} columns={columns} rows={data.settings} idOf={(s) => s.name} empty="Nothing is set" isPlain isTall />
      {data.routes.map((r) => (
        <Box key={r.name}>
          <Heading>Route {r.name}</Heading>
          <DataTable name={`settings of route ${r.name}`} columns={columns} rows={r.settings} idOf={(s) => s.name} empty="Nothing is set" isPlain isTall />
        </Box>
      ))}
    </>
  );
}
