import Box from "@mui/material/Box";
import type { ReactNode } from "react";
import type { ActivityEntry } from "../api/client";
import { Drawer } from "../kit/Drawer";
import { FactTable } from "../kit/FactTable";
import { moment } from "../kit/format";

/** All that the log has of one entry. */
export function EntryDrawer({ entry: e, onClose }: { entry: ActivityEntry; onClose: () => void }) {
  const mono = (text: string | undefined) => text && <Box component="span" sx={{ fontFamily: "monospace", overflowWrap: "anywhere" }}>{text}</Box>;
  const facts: [string, ReactNode][] = [
    ["Time", moment(e.at)], ["Who", e.who], ["What", e.kind], ["Result", e.result], ["Detail", e.detail], ["About", e.instance ?? [e.service, e.version].filter(Boolean).join("/")],
    ["Site", e.site], ["Before", e.before], ["After", e.after], ["From", e.address ?? (e.credential && "this machine")], ["Credential", e.credential], ["Hash", mono(e.hash)], ["Hash before it", mono(e.prior)],
  ];
  return (
    <Drawer title={`Entry ${e.number}`} onClose={onClose} test="entry" width={480}>
      <FactTable head={["", ""]} rows={facts.filter(([, v]) => v).map(([name, v]) => ({ key: name, cells: [name, <Box key="v" sx={{ overflowWrap: "anywhere", minWidth: 0 }}>{v}</Box>] }))} />
    </Drawer>
  );
}
