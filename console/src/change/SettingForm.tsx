import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { FormDrawer } from "./FormDrawer";
import { SchemaForm, type Shape } from "./SchemaForm";
import { isFields, valueAt, type Amendment, type useBundle, type Value } from "./useBundle";

/** The settings that have forms. */
export const settings = ["timeout", "retry", "guard", "health", "balance", "failover", "identity"];

/** Those that a route can have. */
const ofRoutes = new Set(["timeout", "retry"]);

interface Props {
  edit: ReturnType<typeof useBundle>;
  service: string;
  setting: string;
  onClose: () => void;
}

interface Level {
  name: string;
  path: string[];
}

/** Changes a setting at the level that the person picks: the service, a route, a policy or the defaults. */
export function SettingForm({ edit, service, setting, onClose }: Props) {
  const { bundle } = edit;
  const [chosen, setChosen] = useState(0);
  if (!bundle) return null;
  const whole = Object.values(bundle.values);
  const find = (path: string[]): Value | undefined => whole.map((v) => valueAt(v, path)).find((v) => v !== undefined);
  const routes = find(["services", service, "routes"]);
  const policies = find(["policies"]);
  const levels: Level[] = [
    { name: `service ${service}`, path: ["services", service, setting] },
    ...(ofRoutes.has(setting) && Array.isArray(routes) ? routes.filter(isFields).filter((r) => r["send"] !== undefined).map((r) => ({ name: `route ${String(r["name"])}`, path: ["services", service, "routes", String(r["name"]), setting] })) : []),
    ...(isFields(policies) ? Object.keys(policies).map((p) => ({ name: `policy ${p}`, path: ["policies", p, setting] })) : []),
    { name: "default of the whole mesh", path: ["defaults", setting] },
  ];
  const level = levels[chosen] ?? levels[0];
  if (!level) return null;
  return (
    <Editing key={level.path.join(".")} edit={edit} setting={setting} level={level} now={find(level.path)} service={service} onClose={onClose}>
      <TextField select label="Level" value={String(chosen)} onChange={(e) => setChosen(Number(e.target.value))} helperText="Where the value is written. The nearest level wins: route, service, policy, default." data-test="level">
        {levels.map((l, i) => <MenuItem key={l.name} value={String(i)}>{l.name}{find(l.path) === undefined ? "" : ", set now"}</MenuItem>)}
      </TextField>
    </Editing>
  );
}

interface EditingProps extends Props {
  level: Level;
  /** The value at the level; undefined: none. */
  now: Value | undefined;
  children: React.ReactNode;
}

function Editing({ edit, service, setting, level, now, onClose, children }: EditingProps) {
  const [value, setValue] = useState<Value | undefined>(now);
  const changes = (): Amendment[] => (value === undefined ? (now === undefined ? [] : [{ path: level.path }]) : [{ path: level.path, value }]);
  return (
    <FormDrawer title={`${setting} of ${service}`} targets={[]} changes={changes} amend={edit.amend} onClose={onClose}>
      {(schema) => {
        const shape: Shape = { $ref: `#/$defs/${setting}` };
        return (
          <>
            {children}
            {value === undefined ? (
              <Box>
                <Box sx={{ color: "text.secondary", mb: 1 }}>Not set at this level. {schema.$defs?.[setting]?.description}</Box>
                <Button variant="outlined" onClick={() => setValue(firstValue(setting))} data-test="set-here">Set it here</Button>
              </Box>
            ) : (
              <>
                <SchemaForm label={setting} shape={shape} value={value} onChange={setValue} />
                <Box><Button onClick={() => setValue(undefined)} data-test="unset">Do not set it at this level</Button></Box>
              </>
            )}
          </>
        );
      }}
    </FormDrawer>
  );
}

/** What a setting begins with. */
function firstValue(setting: string): Value {
  const values: Record<string, Value> = { timeout: "5s", retry: { times: 1 }, guard: { "in-flight": 100 }, health: { path: "/health" }, balance: "in-turn", failover: { order: ["same"] }, identity: "required" };
  return values[setting] ?? "";
}
