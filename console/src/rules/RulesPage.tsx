import Alert from "@mui/material/Alert";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useSyncExternalStore } from "react";
import { onWho, whoNow } from "../api/who";
import { queries, words, type Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress } from "../kit/address";
import { CopyAsCommand } from "../kit/Command";
import { PageHeader } from "../kit/PageHeader";
import { History } from "./History";
import { Source, useFollow } from "./Source";
import { Workbench } from "./Workbench";

const revisionOf = (mesh: Mesh | null) => mesh && { number: mesh.revision.number, author: mesh.revision.author, message: mesh.revision.message };

/** Rule files: edit, check, compare with the rules in force, publish. */
export function RulesPage() {
  const revision = useMesh(revisionOf);
  const [params, change] = useAddress();
  const view = params.get("view") === "difference" ? "difference" : "edit";
  const number = revision?.number ?? 0;
  const { data: inForce, error } = queries.useQuery("get", "/api/v1/revisions/{number}", { params: { path: { number: String(number) } } }, { enabled: revision !== null, placeholderData: (old) => old });
  const isOfTeam = useSyncExternalStore(onWho, whoNow).who?.teams?.length; // who sees the bundles of their teams alone
  const own = Object.keys(inForce?.bundles ?? {}).sort();
  const bundle = params.get("bundle") ?? (isOfTeam ? own[0] : undefined) ?? "main";
  const bundles = [...new Set([...own, ...(isOfTeam ? [] : ["main"]), bundle])].sort();
  const follow = useFollow(bundle);
  return (
    <>
      <PageHeader
        title="Rules" about="Edit, check, forecast and publish. Your draft is kept in the service until you publish or discard it."
        actions={
          <>
            <CopyAsCommand line="nightjar rules show" />
            {bundles.length > 1 && (
              <TextField select label="Bundle" value={bundle} onChange={(e) => change({ bundle: e.target.value === "main" && !isOfTeam ? null : e.target.value, file: null, line: null, col: null })} sx={{ minWidth: 110 }} data-test="bundle">
                {bundles.map((b) => <MenuItem key={b} value={b}>{b}</MenuItem>)}
              </TextField>
            )}
            <ToggleButtonGroup size="small" exclusive value={view} onChange={(_, v: string | null) => v && change({ view: v === "edit" ? null : v })} aria-label="View">
              <ToggleButton value="edit">Edit</ToggleButton>
              <ToggleButton value="difference" data-test="show-difference">Difference</ToggleButton>
            </ToggleButtonGroup>
          </>
        }
      />
      {error && !inForce && <Alert severity="error" sx={{ mb: 1 }}>{words(error)}</Alert>}
      {follow && <Source follow={follow} />}
      {revision && inForce && <Workbench key={bundle} bundle={bundle} follow={follow} revision={revision} inForce={inForce} view={view} />}
      <History current={number} inForce={inForce} bundle={bundle} open={Number(params.get("compare") ?? 0) || 0} onOpen={(n) => change({ compare: n ? String(n) : null })} />
    </>
  );
}
