import Box from "@mui/material/Box";
import { useVersionFill } from "./versions";

/** The colour and pattern of a version, in front of its name. */
export function VersionMark({ service, version }: { service: string; version: string | undefined }) {
  const fill = useVersionFill(service);
  return <Box component="span" aria-hidden data-test={`mark-${version ?? ""}`} sx={{ display: "inline-block", flex: "none", width: 16, height: 12, mr: 1, borderRadius: 0.5, verticalAlign: "-1px", ...fill(version) }} />;
}
