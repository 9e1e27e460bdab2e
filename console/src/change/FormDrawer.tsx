import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { queries, words, type CheckReport, type Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { Drawer } from "../kit/Drawer";
import { FormContext, type Shape } from "./SchemaForm";
import type { Amendment } from "./useBundle";

/** The names that fields can have, by the field or by its kind in the schema. */
const namesOf = (mesh: Mesh | null): Record<string, string[]> => {
  const services = (mesh?.services ?? []).map((s) => s.name);
  const gateways = (mesh?.gateways ?? []).map((g) => g.name);
  const sites = [...new Set((mesh?.services ?? []).flatMap((s) => s.versions.flatMap((v) => v.instances.map((i) => i.site ?? ""))))].filter(Boolean).sort();
  return {
    from: [...services, ...gateways], site: sites, order: ["same", ...sites], balance: ["in-turn", "least-busy", "random", "hash:header:x-user"], key: ["from", "header:", "cookie:", "query:"],
    method: ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"], on: ["unreachable", "reset", "timeout", "502", "503", "504", "5xx"], counts: ["unreachable", "reset", "timeout", "5xx"],
  };
};

interface Props {
  title: string;
  /** Targets that this form may send to. */
  targets: string[];
  /** The changes that the form makes; empty: none. */
  changes: () => Amendment[];
  amend: (list: Amendment[]) => Promise<CheckReport>;
  onClose: () => void;
  /** What goes beside the button that writes the draft. */
  actions?: ReactNode;
  children: (schema: Shape) => ReactNode;
}

/** A form in the drawer. It writes the draft, in the text of its file, and says what is wrong if that makes mistakes. */
export function FormDrawer({ title, targets, changes, amend, onClose, actions, children }: Props) {
  const names = useMesh(namesOf);
  const { data } = queries.useQuery("get", "/api/v1/rules/schema", {}, { staleTime: Infinity });
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState<string[]>([]);
  const schema = data as Shape | undefined;
  // Another form may be open by the time that this one is saved.
  const isOpen = useRef(false);
  useEffect(() => {
    isOpen.current = true;
    return () => void (isOpen.current = false);
  }, []);
  const close = () => isOpen.current && onClose();
  const save = async () => {
    setBusy(true);
    try {
      const list = changes();
      if (list.length === 0) return close();
      const report = await amend(list);
      const mistakes = report.findings.filter((f) => f.severity === "mistake").map((f) => `${f.path ? `${f.path}: ` : ""}${f.message}${f.expected ? `; expected ${f.expected}` : ""}`);
      if (mistakes.length === 0) return close();
      setWrong(mistakes);
    } catch (e) {
      setWrong([words(e)]);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Drawer title={title} onClose={onClose} test="form" width={480}>
      {schema && (
        <FormContext value={{ schema, names: { ...names, target: targets } }}>
          <Box component="form" onSubmit={(e: React.FormEvent) => { e.preventDefault(); void save(); }} sx={{ display: "grid", gap: 1.5 }}>
            {children(schema)}
            {wrong.length > 0 && <Alert severity="error" data-test="form-wrong">{wrong.map((w) => <div key={w}>{w}</div>)}</Alert>}
            <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, position: "sticky", bottom: -16, py: 1, bgcolor: "background.paper" }}>
              <Button type="submit" variant="contained" disabled={busy} data-test="to-draft">Write into my draft</Button>
              <Button onClick={onClose}>Cancel</Button>
              {actions}
            </Box>
          </Box>
        </FormContext>
      )}
    </Drawer>
  );
}
