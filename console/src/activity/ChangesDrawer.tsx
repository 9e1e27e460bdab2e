import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { Link } from "wouter";
import { queries, words } from "../api/client";
import { Drawer } from "../kit/Drawer";
import { plural } from "../kit/format";
import { Place } from "../kit/Place";

const absent = <Box component="span" sx={{ color: "text.secondary" }}>absent</Box>;

/** What a revision changed in the rules: each value before and after. */
export function ChangesDrawer({ revision, onClose }: { revision: number; onClose: () => void }) {
  const { data, error } = queries.useQuery("get", "/api/v1/revisions/{number}/changes", { params: { path: { number: String(revision) } } }, { staleTime: Infinity, retry: false });
  return (
    <Drawer title={`Revision ${revision}`} onClose={onClose} test="changes" width={480}>
      <Box sx={{ display: "flex", gap: 2, mb: 1.5 }}>
        <Link to={`/effects?revision=${revision}`} style={{ color: "inherit" }}>Effect</Link>
        <Link to={`/rules?compare=${revision}`} style={{ color: "inherit" }}>Compare the files</Link>
      </Box>
      {data && data.before > 0 && data.before !== revision - 1 && <Box sx={{ color: "text.secondary", mb: 1 }}>Compared with revision {data.before}, the newest that is kept below it.</Box>}
      {error && <Alert severity="warning">{words(error)}</Alert>}
      {!data && !error && <Box sx={{ color: "text.secondary" }}>Loading</Box>}
      {data?.changes.map((c) => (
        <Box key={c.path} sx={{ borderTop: 1, borderColor: "divider", py: 1, overflowWrap: "anywhere" }}>
          <strong>{c.path}</strong>
          <Box>{c.before ?? absent} → {c.after ?? absent}</Box>
          <Place at={c.at} />
        </Box>
      ))}
      {data?.total === 0 && <Box sx={{ color: "text.secondary" }}>The text of the rules is as before. A release changes weights in addition to it.</Box>}
      {data && data.total > data.changes.length && <Box sx={{ mt: 1 }}>{plural(data.total - data.changes.length, "more change")}: compare the files.</Box>}
    </Drawer>
  );
}
