import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { queries, words, type AccessMatrix } from "../api/client";
import { useAddress } from "../kit/address";
import { CopyAsCommand } from "../kit/Command";
import { PageHeader } from "../kit/PageHeader";
import { AuthorityPanel } from "./AuthorityPanel";
import { LinkPanel } from "./LinkPanel";
import { Matrix } from "./Matrix";
import { Suggestion } from "./Suggestion";

/** Who may call whom, who did, and who was refused; and the certificates that prove it. */
export function AccessPage() {
  const { data: access, error } = queries.useQuery("get", "/api/v1/access", {}, { refetchInterval: 3000 });
  const [params, change] = useAddress();
  const from = params.get("from"), to = params.get("to");
  const pick = (link: { from: string; to: string } | null) => change({ from: link?.from ?? null, to: link?.to ?? null });
  const picked = access?.links.find((l) => l.from === from && l.to === to);
  return (
    <>
      <PageHeader title="Access" about={access && <span data-test="summary">{summary(access)}</span>} actions={<CopyAsCommand line="nightjar access" />} />
      {error && <Alert severity="warning" sx={{ mb: 1 }}>Access cannot be read: {words(error)} The page shows the last known state.</Alert>}
      {!access && !error && <Box sx={{ color: "text.secondary", py: 4 }}>Waiting for the service</Box>}
      {access && (
        <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: "minmax(0, 1fr)" }}>
          <Matrix access={access} from={from} to={to} onPick={pick} />
          {picked && <LinkPanel link={picked} access={access} onClose={() => pick(null)} />}
          <Suggestion hasRules={access.hasRules} />
          <AuthorityPanel />
        </Box>
      )}
    </>
  );
}

function summary(access: AccessMatrix): string {
  if (!access.hasRules) return "There are no access rules: every member of the mesh may call every service.";
  const holds = access.default === "deny" ? "who is not allowed by a rule is refused" : "who is not denied by a rule is let in";
  return `Access rules of revision ${access.revision}: ${holds}${access.isWatching ? "; they are only watched, and nothing is refused" : ""}.`;
}
