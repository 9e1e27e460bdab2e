import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Popover from "@mui/material/Popover";
import { useState } from "react";
import { Link } from "wouter";
import { api, words, type Schemas } from "../api/client";
import { signedOut } from "../api/who";
import { moment } from "../kit/format";

const can: Record<string, string> = {
  viewer: "A viewer may look at everything.",
  editor: "An editor may change rules, and run trials, releases and drills.",
  admin: "An admin may do everything.",
};

/** Says who is signed in and what they may do, and signs out. */
export default function WhoMenu({ who, anchor, onClose }: { who: Schemas["Who"]; anchor: HTMLElement; onClose: () => void }) {
  const [error, setError] = useState("");
  const leave = () => void api.DELETE("/api/v1/sessions/{session}", { params: { path: { session: "current" } } }).then(signedOut, (e: unknown) => setError(words(e)));
  return (
    <Popover open anchorEl={anchor} onClose={onClose} anchorOrigin={{ vertical: "bottom", horizontal: "right" }} transformOrigin={{ vertical: "top", horizontal: "right" }} transitionDuration={0}>
      <Box sx={{ p: 2, display: "grid", gap: 1, width: 280 }} data-test="who-menu">
        <Box><Box component="strong" sx={{ overflowWrap: "anywhere" }}>{who.name}</Box>, {who.role}{who.teams?.length ? ` of team ${who.teams.join(", ")}` : ""}</Box>
        <Box sx={{ color: "text.secondary" }}>{can[who.role]} {who.teams?.length ? "That is for what your team owns; you see what it uses, too. " : ""}Publishes, splits, drills and drafts have your name.</Box>
        {who.expires && <Box sx={{ color: "text.secondary" }}>Signed in until {moment(who.expires)}.</Box>}
        <Box component={Link} to="/people" onClick={onClose} sx={{ color: "inherit" }}>People and sessions</Box>
        {error && <Box role="alert" sx={{ color: "error.main" }}>{error}</Box>}
        <Button variant="outlined" onClick={leave} data-test="sign-out">Sign out</Button>
      </Box>
    </Popover>
  );
}
