import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { useSearchParams } from "react-router";
import { readAccess, type AccessMatrix } from "../api/client";
import { usePolled } from "../parts/usePolled";
import { AuthorityPanel } from "./AuthorityPanel";
import { LinkPanel } from "./LinkPanel";
import { Matrix } from "./Matrix";
import { Suggestion } from "./Suggestion";

/** Who may call whom, who did, and who was refused; and the certificates that prove it. */
export function AccessPage() {
  const { value: access, error } = usePolled("access", 3000, readAccess);
  const [params, setParams] = useSearchParams();
  const from = params.get("from"), to = params.get("to");
  const pick = (link: { from: string; to: string } | null) => {
    const next = new URLSearchParams(params);
    next.delete("from");
    next.delete("to");
    if (link) {
      next.set("from", link.from);
      next.set("to", link.to);
    }
    setParams(next, { replace: true });
  };
  const picked = access?.links.find((l) => l.from === from && l.to === to);
  return (
    <>
      <Box sx={{ display: "flex", alignItems: "baseline", flexWrap: "wrap", columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">Access</Typography>
        {access && <Box data-test="summary" sx={{ color: "text.secondary" }}>{summary(access)}</Box>}
      </Box>
      {error && <Alert severity="warning" sx={{ mb: 1 }}>Access cannot be read: {error}. The page shows the last known state.</Alert>}
      {!access && !error && <Box sx={{ color: "text.secondary", py: 4 }}>Waiting for the service</Box>}
      {access && (
        <Box sx={{ display: "grid", gap: 2 }}>
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
