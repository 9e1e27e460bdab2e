import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { actRelease, type Release } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { who } from "../parts/who";

const acts: Record<string, { name: string; asks: (r: Release) => string; colour?: "error" | "warning" }> = {
  resume: { name: "Resume", asks: (r) => `${r.to} goes on: to the next stage if this one has shown what it had to.` },
  hold: { name: "Hold", asks: (r) => `${r.to} stays at the weight that it has until somebody resumes. It is judged all the same.` },
  skip: { name: "Skip the stage", asks: () => "The next stage begins at once, without the rest of this one being judged.", colour: "warning" },
  finish: { name: "Finish now", asks: (r) => `${r.to} takes over from ${r.from} at once, and is not judged any more.`, colour: "warning" },
  withdraw: { name: "Withdraw", asks: (r) => (r.state === "completed" ? `Everything goes back to ${r.from}, in the rules too.` : `Everything goes back to ${r.from} at once.`), colour: "error" },
};

/** What a person can do to a release, each after one more question. */
export function Acts({ release: r }: { release: Release }) {
  const [asked, setAsked] = useState("");
  const act = acts[asked];
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1 }}>
      {r.can.map((a) => (
        <Button key={a} size="small" variant={a === "resume" ? "contained" : "outlined"} {...(acts[a]?.colour ? { color: acts[a].colour } : {})} onClick={() => setAsked(a)} data-test={`act-${a}`}>{acts[a]?.name ?? a}</Button>
      ))}
      <Confirm
        act={act?.name ?? ""} of={r.name} colour={act?.colour} reason={asked !== "resume" && asked !== "skip"} onClose={() => setAsked("")}
        onGo={async (why) => void (await actRelease(r.number, asked, who(), why))}
      >
        {act?.asks(r)}
      </Confirm>
    </Box>
  );
}
