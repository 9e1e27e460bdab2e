import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import type { RuleFile } from "../api/client";
import { useAddress } from "../kit/address";
import { DraftBar } from "./DraftBar";
import { useBundle } from "./useBundle";

/** Which rules a page computes or tries, as the address says: those in force, or the person's draft of a bundle. */
export function useRules() {
  const [params, change] = useAddress();
  const isDraft = params.get("rules") === "draft";
  const name = params.get("bundle") ?? "main";
  const edit = useBundle(isDraft ? { bundle: name } : null);
  /** The draft as a request has it; nothing for the rules in force. */
  const draft = async (): Promise<{ rules?: RuleFile[]; bundle?: string }> => {
    if (!isDraft) return {};
    const newest = await edit.reread();
    if (newest.version === 0) throw new Error(`You have no draft of the bundle ${name}: edit the rules on the page Rules, or a service by its forms, without publishing it.`);
    return { rules: newest.files, bundle: name };
  };
  return { isDraft, name, edit, draft, choose: (draft: boolean) => change({ rules: draft ? "draft" : null, bundle: null }) };
}

type Rules = ReturnType<typeof useRules>;

/** A field for which rules a page works with. */
export function RulesField({ rules, test }: { rules: Rules; test: string }) {
  return (
    <TextField select label="Rules" value={rules.isDraft ? "draft" : "in force"} onChange={(e) => rules.choose(e.target.value === "draft")} sx={{ width: 150 }} data-test={test}>
      <MenuItem value="in force">in force</MenuItem>
      <MenuItem value="draft">{rules.name === "main" ? "my draft" : `my draft of ${rules.name}`}</MenuItem>
    </TextField>
  );
}

/** The draft that a page works with, and the way to publish it. */
export function RulesDraft({ rules }: { rules: Rules }) {
  if (!rules.isDraft) return null;
  return <Box sx={{ mt: 1.5 }}><DraftBar key={rules.name} edit={rules.edit} /></Box>;
}
