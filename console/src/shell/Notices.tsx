import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { Link } from "react-router";
import { useLive } from "../api/live";
import { plural, timeOfDay } from "../parts/format";

/** What needs to be known on every page: a lost service, files that are not in force, warnings. */
export function Notices() {
  const { mesh, at, stale } = useLive();
  return (
    <Box sx={{ "& .MuiAlert-root": { borderRadius: 0, py: 0.25, px: { xs: 2, md: 3 } } }}>
      {stale && (
        <Alert severity="error" data-test="stale">
          {at ? `The service does not answer. What you see is from ${new Date(at).toLocaleTimeString()}.` : "The service does not answer."} Proxies go on by the rules they have.
        </Alert>
      )}
      {mesh?.unpublished.map((u) => (
        <Alert key={u.bundle} severity="warning" data-test="unpublished" title={u.at}>
          Not in force: the files of bundle {u.bundle} that {u.by} checked at {timeOfDay(u.at)}{" "}
          {u.mistakes > 0 ? `have ${plural(u.mistakes, "mistake")}` : `differ from what is in force in ${plural(u.changes, "place")}`}.
        </Alert>
      ))}
      {mesh?.warnings.slice(0, 1).map((w) => (
        <Alert key={`${w.path ?? ""}${w.code}`} severity="info" data-test="warnings">
          {w.message} ({w.at.file}:{w.at.line}){mesh.warnings.length > 1 && `; and ${plural(mesh.warnings.length - 1, "more warning")}`}. <Link to="/rules">See the rules</Link>
        </Alert>
      ))}
      {(mesh?.other ?? 0) > 0 && <Alert severity="info">Too many names: {mesh?.other} requests are counted as "other".</Alert>}
    </Box>
  );
}
