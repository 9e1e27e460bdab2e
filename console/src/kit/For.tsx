import Box from "@mui/material/Box";
import { useSyncExternalStore, type ReactNode } from "react";
import { may, onWho, owns, whoNow } from "../api/who";

/** Whether who is signed in may do what needs a role. */
export const useMay = (role: "editor" | "admin"): boolean => may(useSyncExternalStore(onWho, whoNow).who, role);

/** Whether who is signed in may change what is of a team. */
export const useOwns = (team: string): boolean => owns(useSyncExternalStore(onWho, whoNow).who, team);

/** Whether who is signed in is somebody of a team, who sees a part of the mesh. */
export const useIsOfTeam = (): boolean => (useSyncExternalStore(onWho, whoNow).who?.teams ?? []).length > 0;

/** What only some people can do. Others do not see it, but what stands in its place. */
export function For({ who, instead = null, children }: { who: "editor" | "admin"; instead?: ReactNode; children: ReactNode }) {
  return useMay(who) ? children : instead;
}

/** Says what somebody with another role could do here. */
export function Needs({ who, to }: { who: "editor" | "admin"; to: string }) {
  return <Box sx={{ color: "text.secondary" }} data-test={`needs-${who}`}>The role {who} is needed {to}. An admin gives it with another access token.</Box>;
}
