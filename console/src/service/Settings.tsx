import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { queries, words, type Schemas } from "../api/client";
import { SettingForm, settings } from "../change/SettingForm";
import type { useBundle } from "../change/useBundle";
import { useAddress } from "../kit/address";
import { DataTable, type Column } from "../kit/DataTable";
import { Heading } from "../kit/PageHeader";
import { Place } from "../kit/Place";

type Setting = Schemas["Setting"];

/** Of which setting a part is: guard.breaker is of guard. */
const formOf = (name: string): string | undefined => settings.find((s) => name === s || name.startsWith(`${s}.`)) ?? (["in-flight", "breaker", "sideline"].some((p) => name.startsWith(p)) ? "guard" : undefined);

const columns = (onEdit?: (setting: string) => void): Column<Setting>[] => [
  { field: "name", headerName: "Setting", width: 150, cellClassName: "strong" },
  { field: "value", headerName: "Value", flex: 1, minWidth: 220 },
  { field: "from", headerName: "Set by", width: 200 },
  { field: "at", headerName: "Where", flex: 0.6, minWidth: 190, valueGetter: (_, s) => (s.at.file ? `${s.at.file}:${s.at.line ?? ""}` : ""), renderCell: ({ row }) => <Place at={row.at} /> },
  {
    field: "edit", headerName: "Change", width: 90, sortable: false, filterable: false, disableExport: true,
    renderCell: ({ row }) => {
      const form = formOf(row.name);
      return form && onEdit && <Button onClick={() => onEdit(form)} data-test={`set-${form}`} sx={{ minHeight: 24, py: 0 }}>Edit</Button>;
    },
  },
];

/** The settings that hold for a service and its routes, with the level that sets each; forms change them in the draft. */
export function Settings({ service, edit }: { service: string; edit: ReturnType<typeof useBundle> }) {
  const { data, error } = queries.useQuery("get", "/api/v1/services/{service}/effective", { params: { path: { service } } }, { refetchInterval: 5000 });
  const [params, change] = useAddress();
  const edited = params.get("edit");
  if (!data) return error ? <Alert severity="error">{words(error)}</Alert> : <Box sx={{ color: "text.secondary" }}>Loading the settings</Box>;
  const onEdit = (setting: string) => change({ edit: setting });
  const shown = new Set(data.settings.map((s) => formOf(s.name)));
  return (
    <>
      <Box sx={{ color: "text.secondary", mb: 1 }}>Of the service, unless a route says otherwise. A place leads to its line in the editor.</Box>
      <DataTable name={`settings of ${service}`} columns={columns(edit.bundle ? onEdit : undefined)} rows={data.settings} idOf={(s) => s.name} empty="Nothing is set" isPlain isTall />
      {edit.bundle && (
        <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1 }}>
          {settings.filter((s) => !shown.has(s)).map((s) => <Button key={s} variant="outlined" onClick={() => onEdit(s)} data-test={`set-${s}`}>Set {s}</Button>)}
        </Box>
      )}
      {data.routes.map((r) => (
        <Box key={r.name}>
          <Heading>Route {r.name}</Heading>
          <DataTable name={`settings of route ${r.name}`} columns={columns()} rows={r.settings} idOf={(s) => s.name} empty="Nothing is set" isPlain isTall />
        </Box>
      ))}
      {edited && settings.includes(edited) && <SettingForm key={edited} edit={edit} service={service} setting={edited} onClose={() => change({ edit: null })} />}
    </>
  );
}
