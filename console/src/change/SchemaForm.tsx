import Add from "@mui/icons-material/Add";
import Close from "@mui/icons-material/Close";
import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import IconButton from "@mui/material/IconButton";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { createContext, useContext, useState, type ReactNode } from "react";
import { type } from "../kit/theme";
import { isFields, type Fields, type Value } from "./useBundle";

/** The part of JSON Schema that the schema of the rule language uses. */
export interface Shape {
  $ref?: string;
  $defs?: Record<string, Shape>;
  type?: string | string[];
  description?: string;
  default?: unknown;
  enum?: unknown[];
  properties?: Record<string, Shape>;
  required?: string[];
  additionalProperties?: boolean | Shape;
  items?: Shape;
  anyOf?: Shape[];
}

/** The whole schema, and the names that fields of a kind can have: targets, services, sites. */
export const FormContext = createContext<{ schema: Shape; names: Record<string, string[]> }>({ schema: {}, names: {} });

const refName = (s: Shape): string => s.$ref?.replace("#/$defs/", "") ?? "";

/** A shape with its reference followed; what stands beside the reference goes first. */
function follow(s: Shape, root: Shape): Shape {
  const to = root.$defs?.[refName(s)];
  if (!to) return s;
  const { $ref, ...own } = s;
  void $ref;
  return { ...follow(to, root), ...own };
}

const isScalar = (s: Shape): boolean => !s.properties && !s.additionalProperties && !s.items && !s.anyOf;
const words = (s: Shape): string => [s.description, s.default === undefined ? "" : `Default: ${String(s.default)}.`].filter(Boolean).join(" ");

const weight = "weight in percent";

/** An empty value of a shape. */
function blank(s: Shape, root: Shape): Value {
  const f = follow(s, root);
  if (f.anyOf) return blank(f.anyOf.find((a) => !isScalar(follow(a, root))) ?? f.anyOf[0] ?? {}, root);
  if (f.items) return [];
  if (f.properties) return Object.fromEntries((f.required ?? []).map((name) => [name, blank(f.properties?.[name] ?? {}, root)]));
  if (f.additionalProperties) return {};
  return f.enum ? ((f.default ?? f.enum[0] ?? "") as Value) : "";
}

/** Text as a value: a number where the shape allows one and it looks like one. */
function asValue(text: string, s: Shape): Value {
  const types = [s.type ?? []].flat();
  if (types.some((t) => t === "integer" || t === "number") && /^-?\d+(\.\d+)?$/.test(text.trim())) return Number(text);
  return text;
}

interface Props {
  label: string;
  shape: Shape;
  value: Value;
  onChange: (value: Value) => void;
  isTop?: boolean;
}

/** A form for a value, made from the schema of the language: it knows every key, its default and what it means. */
export function SchemaForm({ label, shape, value, onChange, isTop = false }: Props) {
  const { schema } = useContext(FormContext);
  const s = follow(shape, schema);
  const name = refName(shape);
  if (s.anyOf) return <Either label={label} shape={s} name={name} value={value} onChange={onChange} />;
  if (s.properties) return <Group label={label} shape={s} value={isFields(value) ? value : {}} onChange={onChange} isTop={isTop} />;
  if (typeof s.additionalProperties === "object") return <Pairs label={label} shape={s.additionalProperties} about={words(s)} value={isFields(value) ? value : {}} onChange={onChange} />;
  if (s.items) return <List label={label} shape={s.items} about={words(s)} value={Array.isArray(value) ? value : []} onChange={onChange} />;
  return <Scalar label={label} shape={s} name={name} value={value} onChange={onChange} />;
}

function Scalar({ label, shape: s, name, value, onChange }: { label: string; shape: Shape; name: string; value: Value; onChange: (v: Value) => void }) {
  const { names } = useContext(FormContext);
  const text = value === null || typeof value === "object" ? "" : String(value);
  const common = { fullWidth: true, label, helperText: name === "" && label === weight ? "" : words(s) };
  if (s.enum) {
    const options = [...new Map(s.enum.map((e) => [String(e), e as Value])).entries()];
    return (
      <TextField select {...common} value={text} onChange={(e) => onChange(options.find(([t]) => t === e.target.value)?.[1] ?? e.target.value)} slotProps={{ htmlInput: { "data-test": `field-${label}` } }}>
        {options.map(([t]) => <MenuItem key={t} value={t}>{t}</MenuItem>)}
      </TextField>
    );
  }
  const known = names[label] ?? names[name];
  if (known) {
    return (
      <Autocomplete
        freeSolo options={known} inputValue={text} onInputChange={(_, t, why) => { if (why !== "reset" || t) onChange(asValue(t, s)); }}
        renderInput={(props) => <TextField {...props} {...common} slotProps={{ ...props.slotProps, htmlInput: { ...props.slotProps.htmlInput, "data-test": `field-${label}` } }} />}
      />
    );
  }
  return <TextField {...common} value={text} onChange={(e) => onChange(asValue(e.target.value, s))} slotProps={{ htmlInput: { "data-test": `field-${label}` } }} />;
}

/** A box around what belongs together. */
function Frame({ label, about, actions, children, isTop = false }: { label: string; about?: string; actions?: ReactNode; children: ReactNode; isTop?: boolean }) {
  return (
    <Box component="fieldset" sx={{ m: 0, minWidth: 0, border: 0, p: 0, display: "grid", gap: 1.5, ...(isTop ? {} : { pl: 1.5, borderLeft: 2, borderLeftStyle: "solid", borderColor: "divider" }) }}>
      {!isTop && (
        <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
          <Box component="legend" sx={{ p: 0, float: "left", fontWeight: 650 }}>{label}</Box>
          <Box sx={{ ml: "auto", display: "flex" }}>{actions}</Box>
        </Box>
      )}
      {about && !isTop && <Box sx={{ color: "text.secondary", fontSize: type.small, mt: -1 }}>{about}</Box>}
      {children}
    </Box>
  );
}

const Remove = ({ what, onClick }: { what: string; onClick: () => void }) => <IconButton size="small" aria-label={`Remove ${what}`} onClick={onClick} data-test={`remove-${what}`}><Close fontSize="small" /></IconButton>;

/** A button with a menu of what can be added. */
function AddMenu({ label, words, options, onAdd }: { label: string; words: string; options: [name: string, about: string][]; onAdd: (name: string) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  if (options.length === 0) return null;
  return (
    <Box>
      <Button startIcon={<Add />} onClick={(e) => setAnchor(e.currentTarget)} aria-haspopup="menu" data-test={`add-to-${label}`}>{words}</Button>
      <Menu open={anchor !== null} anchorEl={anchor} onClose={() => setAnchor(null)} transitionDuration={0}>
        {options.map(([name, about]) => (
          <MenuItem key={name} onClick={() => { onAdd(name); setAnchor(null); }} data-test={`add-${name}`} sx={{ display: "block", maxWidth: 380, whiteSpace: "normal" }}>
            <Box component="strong">{name}</Box> <Box component="span" sx={{ color: "text.secondary", fontSize: type.small }}>{about}</Box>
          </MenuItem>
        ))}
      </Menu>
    </Box>
  );
}

/** Keys that are known: those that are set are shown, the others can be added. */
function Group({ label, shape: s, value, onChange, isTop }: { label: string; shape: Shape; value: Fields; onChange: (v: Value) => void; isTop: boolean }) {
  const { schema } = useContext(FormContext);
  const all = Object.entries(s.properties ?? {});
  const set = (name: string, v: Value | undefined) => {
    if (v !== undefined) return onChange({ ...value, [name]: v });
    onChange(Object.fromEntries(Object.entries(value).filter(([key]) => key !== name)));
  };
  const shown = all.filter(([name]) => value[name] !== undefined || s.required?.includes(name));
  return (
    <Frame label={label} about={s.description ?? ""} isTop={isTop}>
      {shown.map(([name, shape]) => (
        <Box key={name} sx={{ display: "flex", gap: 0.5, alignItems: "flex-start" }}>
          <Box sx={{ flex: 1, minWidth: 0 }}><SchemaForm label={name} shape={shape} value={value[name] ?? ""} onChange={(v) => set(name, v)} /></Box>
          {!s.required?.includes(name) && <Remove what={name} onClick={() => set(name, undefined)} />}
        </Box>
      ))}
      <AddMenu label={label} words={isTop ? "Add a condition or a setting" : `Add to ${label}`} options={all.filter((p) => !shown.includes(p)).map(([name, shape]) => [name, words(follow(shape, schema))])} onAdd={(name) => set(name, blank(s.properties?.[name] ?? {}, schema))} />
    </Frame>
  );
}

/** Keys that the person names: header names, targets with weights, labels. */
function Pairs({ label, shape, about, value, onChange }: { label: string; shape: Shape; about: string; value: Fields; onChange: (v: Value) => void }) {
  const { schema, names } = useContext(FormContext);
  const list = Object.entries(value);
  const set = (i: number, name: string, v: Value) => onChange(Object.fromEntries(list.map((pair, j) => (j === i ? [name, v] : pair))));
  const known = label === "send" ? (names["target"] ?? []) : [];
  return (
    <Frame label={label} about={about}>
      {list.map(([name, v], i) => (
        <Box key={i} sx={{ display: "grid", gap: 1, gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1.4fr) auto", alignItems: "start" }}>
          <Autocomplete freeSolo options={known} inputValue={name} onInputChange={(_, t) => { if (t === name || !(t in value)) set(i, t, v); }} renderInput={(props) => <TextField {...props} label="name" />} />
          <SchemaForm label={label === "send" ? weight : "value"} shape={label === "send" ? { type: ["string", "number"] } : shape} value={v} onChange={(next) => set(i, name, next)} />
          <Remove what={name || "entry"} onClick={() => onChange(Object.fromEntries(list.filter((_, j) => j !== i)))} />
        </Box>
      ))}
      <Box><Button startIcon={<Add />} disabled={"" in value} onClick={() => onChange({ ...value, "": blankOf(shape, schema) })} data-test={`more-${label}`}>{label === "send" ? "Add a target" : "Add a name"}</Button></Box>
    </Frame>
  );
}

/** A new entry is the simple form of its shape. */
function blankOf(s: Shape, root: Shape): Value {
  const f = follow(s, root);
  return f.anyOf?.some((a) => isScalar(follow(a, root))) ? "" : blank(s, root);
}

function List({ label, shape, about, value, onChange }: { label: string; shape: Shape; about: string; value: Value[]; onChange: (v: Value) => void }) {
  const { schema } = useContext(FormContext);
  const isShort = isScalar(follow(shape, schema));
  return (
    <Frame label={label} about={about}>
      {value.map((v, i) => (
        <Box key={i} sx={{ display: "flex", gap: 0.5, alignItems: "flex-start" }}>
          <Box sx={{ flex: 1, minWidth: 0 }}><SchemaForm label={isShort || value.length === 1 ? label : `${i > 0 ? "or " : ""}${label} ${i + 1}`} shape={shape} value={v} onChange={(next) => onChange(value.map((x, j) => (j === i ? next : x)))} /></Box>
          <Remove what={`${label} ${i + 1}`} onClick={() => onChange(value.filter((_, j) => j !== i))} />
        </Box>
      ))}
      <Box><Button startIcon={<Add />} onClick={() => onChange([...value, blankOf(shape, schema)])} data-test={`more-${label}`}>{isShort ? `Add to ${label}` : `Add an alternative to ${label}`}</Button></Box>
    </Frame>
  );
}

/** One of two shapes. One or several of a kind are a list; of other shapes, the person chooses. */
function Either({ label, shape: s, name, value, onChange }: { label: string; shape: Shape; name: string; value: Value; onChange: (v: Value) => void }) {
  const { schema } = useContext(FormContext);
  const shapes = (s.anyOf ?? []).map((a) => ({ shape: a, full: follow(a, schema) }));
  const several = shapes.find((a) => a.full.items);
  if (several) {
    const items = several.full.items ?? {};
    const list = Array.isArray(value) ? value : value === "" || value === null ? [] : [value];
    const isOne = !Array.isArray(value) && list.length === 1; // it stays written as one
    return <List label={label} shape={items} about={s.description ?? ""} value={list} onChange={(v) => onChange(isOne && Array.isArray(v) && v.length === 1 ? (v[0] ?? "") : v)} />;
  }
  const isLong = typeof value === "object" && value !== null;
  const chosen = shapes.find((a) => isScalar(a.full) !== isLong) ?? shapes[0];
  const other = shapes.find((a) => a !== chosen);
  if (!chosen) return null;
  const form = <SchemaForm label={label} shape={{ ...chosen.shape, ...(s.description ? { description: s.description } : {}) }} value={value} onChange={onChange} />;
  if (!other) return form;
  const words = label === "send" ? ["several targets with weights", "one target"] : name === "" && label === "path" ? ["by regular expression", "by pattern"] : ["more comparisons", "one value"];
  const flip = () => {
    if (isLong) return onChange(typeof value === "object" && isFields(value) ? firstWord(value) : "");
    if (label === "send") return onChange(value ? { [String(value)]: 100 } : {});
    const first = Object.keys(other.full.properties ?? {})[0];
    onChange(first ? { [first]: value } : {});
  };
  return (
    <Box>
      {form}
      <Button onClick={flip} data-test={`flip-${label}`}>Use {isLong ? words[1] : words[0]}</Button>
    </Box>
  );
}

/** The simple form of a longer value. */
function firstWord(value: Fields): Value {
  const [name, first] = Object.entries(value)[0] ?? [];
  return typeof first === "string" ? first : (name ?? "");
}
