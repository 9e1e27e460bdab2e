import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { Confirm } from "../kit/Confirm";
import { FormDrawer } from "./FormDrawer";
import { SchemaForm } from "./SchemaForm";
import { isFields, valueAt, type Amendment, type Fields, type useBundle, type Value } from "./useBundle";

interface Props {
  edit: ReturnType<typeof useBundle>;
  section: "services" | "gateways";
  parent: string;
  /** The route to change; empty: a new one. */
  name: string;
  targets: string[];
  onClose: () => void;
}

/** Adds, changes, moves or removes a route of a service or gateway, in the draft. */
export function RouteForm(props: Props) {
  const { edit, section, parent, name } = props;
  const file = edit.bundle?.files.find((f) => valueAt(edit.bundle?.values[f.name], [section, parent]) !== undefined)?.name ?? "";
  if (!edit.bundle) return null;
  const routes = valueAt(edit.bundle.values[file], [section, parent, "routes"]);
  const list = Array.isArray(routes) ? routes.filter(isFields) : [];
  return <Editing key={`${parent}/${name}`} {...props} list={list} />;
}

function Editing({ edit, section, parent, name, targets, onClose, list }: Props & { list: Fields[] }) {
  const at = list.findIndex((r) => r["name"] === name);
  const isNew = name === "";
  const [route, setRoute] = useState<Fields>(() => list[at] ?? { name: "", send: targets[0] ?? "" });
  const [place, setPlace] = useState(isNew ? 0 : at);
  const [isAsked, setAsked] = useState(false);
  const [end, setEnd] = useState(() => ["send", "redirect", "reply"].find((k) => route[k] !== undefined) ?? "send");
  const path = [section, parent, "routes", isNew ? "a new route" : name];
  const changes = (): Amendment[] => {
    if (list.length === 0) return [{ path: path.slice(0, -1), value: [route] }];
    return [{ path, value: route, ...(isNew || place !== at ? { index: place } : {}) }];
  };
  const choose = (next: string) => {
    setEnd(next);
    const first: Record<string, Value> = { send: targets[0] ?? "", reply: { status: 200 }, redirect: { path: "/" } };
    const rest = Object.entries(route).filter(([k]) => first[k] === undefined);
    setRoute(Object.fromEntries([...rest, [next, first[next] ?? ""]]));
  };
  const others = list.filter((r) => r["name"] !== name).map((r) => String(r["name"] ?? `the routes of team ${String(r["team"])}`));
  return (
    <FormDrawer
      title={isNew ? `New route of ${parent}` : `Route ${name} of ${parent}`} targets={targets} changes={changes} amend={edit.amend} onClose={onClose}
      actions={!isNew && <Button color="error" onClick={() => setAsked(true)} data-test="remove-route" sx={{ ml: "auto" }}>Remove route</Button>}
    >
      {(schema) => {
        const shape = schema.$defs?.["route"] ?? {};
        const { send, redirect, reply, ...rest } = shape.properties ?? {};
        const ends = { send, redirect, reply };
        const mine = ends[end as keyof typeof ends] ?? {};
        const { name: _, team: __, ...shown } = rest;
        void [_, __];
        const order = Object.fromEntries(Object.entries(shown).filter(([k]) => k !== "labels"));
        return (
          <>
            <TextField label="name" value={String(route["name"] ?? "")} onChange={(e) => setRoute({ ...route, name: e.target.value })} helperText="By which commands and pictures speak of the route." slotProps={{ htmlInput: { "data-test": "field-name" } }} />
            <TextField select label="Place in match order" value={String(place)} onChange={(e) => setPlace(Number(e.target.value))} data-test="place">
              {[...Array(others.length + 1).keys()].map((i) => <MenuItem key={i} value={String(i)}>{i + 1}{others[i] ? `, before ${others[i]}` : ", the last"}</MenuItem>)}
            </TextField>
            <TextField select label="What happens" value={end} onChange={(e) => choose(e.target.value)} data-test="end">
              <MenuItem value="send">send to a version or a service</MenuItem>
              <MenuItem value="redirect">redirect</MenuItem>
              <MenuItem value="reply">reply with a fixed answer</MenuItem>
            </TextField>
            <SchemaForm label={end} shape={mine} value={route[end] ?? ""} onChange={(v) => setRoute({ ...route, [end]: v })} />
            <Box sx={{ fontWeight: 650 }}>Conditions and settings</Box>
            <SchemaForm label="route" isTop shape={{ properties: { ...order, ...(rest["labels"] ? { labels: rest["labels"] } : {}) } }} value={route} onChange={(v) => setRoute(v as Fields)} />
            <Confirm act={isAsked ? "Remove" : ""} of={`route ${name} from your draft`} colour="warning" onClose={() => setAsked(false)} onGo={async () => { await edit.amend([{ path }]); onClose(); }}>
              The route stays in force until you publish the draft. The comment right above it goes with it.
            </Confirm>
          </>
        );
      }}
    </FormDrawer>
  );
}
