import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { queries, words } from "../api/client";
import { type } from "../kit/theme";

/** Whether the log is as it was written: each entry has the hash of the one before it. */
export function ChainState({ onClose }: { onClose: () => void }) {
  const { data: c, error, isFetching } = queries.useQuery("get", "/api/v1/activity/chain", {}, { gcTime: 0 });
  if (error) return <Alert severity="warning" sx={{ mb: 1 }}>{words(error)}</Alert>;
  if (!c || isFetching) return <Box sx={{ color: "text.secondary", mb: 1 }} role="status">Checking every entry</Box>;
  return (
    <Alert severity={c.isWhole ? "success" : "error"} sx={{ mb: 1 }} onClose={onClose} data-test="chain">
      {c.isWhole ? `Nothing was changed: entries ${c.first} to ${c.last} follow each other by their hashes.` : `The log was tampered with: ${c.fault ?? ""}.`}
      {c.unchained > 0 && ` ${c.unchained} entries are from before entries were chained.`}
      {c.head && <Box sx={{ fontFamily: "monospace", fontSize: type.small, overflowWrap: "anywhere" }}>Hash of entry {c.last}: {c.head}</Box>}
    </Alert>
  );
}
