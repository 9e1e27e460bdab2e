import Alert from "@mui/material/Alert";
import Button from "@mui/material/Button";
import { useState } from "react";
import { api, take, type Schemas } from "../api/client";
import { Confirm } from "../kit/Confirm";
import { For } from "../kit/For";
import { plural } from "../kit/format";

type Upgrade = Schemas["Upgrade"];

/** How the newest upgrade of the fleet stands: while it runs, when it was taken back, and while proxies are out of step. */
export function UpgradeState({ upgrade: u, outOfStep }: { upgrade: Upgrade; outOfStep: string[] }) {
  const [asked, setAsked] = useState(false);
  const isOver = u.state === "completed" && outOfStep.length === 0;
  if (isOver) return null;
  const begun = u.waves.filter((w) => w.hasBegun);
  const last = begun.at(-1);
  const name = `${u.program} (${u.hash.slice(0, 12)})`;
  const text = {
    running: `wave ${begun.length} of ${u.waves.length}: ${last?.took ?? 0} of ${plural(last?.proxies.length ?? 0, "proxy", "proxies")} have it`,
    "taking-back": `it is taken back: ${u.why ?? ""}`,
    "taken-back": `taken back: ${u.why ?? ""}`,
    completed: `${plural(outOfStep.length, "proxy is", "proxies are")} out of step: ${outOfStep.slice(0, 5).join(", ")}${outOfStep.length > 5 ? " and others" : ""}`,
  }[u.state];
  return (
    <>
      <Alert
        severity={u.state === "running" ? "info" : "warning"} sx={{ mb: 1 }} data-test="upgrade"
        action={u.state === "running" || u.state === "completed" ? <For who="admin"><Button size="small" color="inherit" onClick={() => setAsked(true)} data-test="take-back">Take back</Button></For> : null}
      >
        Upgrade {u.number} to {name}{u.site && ` at ${u.site}`} by {u.by}: {text}.
      </Alert>
      <Confirm
        act={asked ? "Take back" : ""} of={`upgrade ${u.number}`} colour="warning" onClose={() => setAsked(false)}
        onGo={async () => void (await take(api.POST("/api/v1/fleet/upgrades/{upgrade}/take-back", { params: { path: { upgrade: String(u.number) } } })))}
      >
        All proxies that took {name} run the program before again. No request fails.
      </Confirm>
    </>
  );
}
