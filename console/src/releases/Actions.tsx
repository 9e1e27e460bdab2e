import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { api, type Release } from "../api/client";
import { Confirm } from "../kit/Confirm";
import { useMay } from "../kit/For";

const acts: Record<string, { name: string; explains: (r: Release) => string; colour?: "error" | "warning" }> = {
  resume: { name: "Resume", explains: (r) => `${r.to} continues: with the next stage, if the judge has passed this one.` },
  hold: { name: "Hold", explains: (r) => `${r.to} keeps its weight until somebody resumes the release. It is still judged.` },
  skip: { name: "Skip stage", explains: () => "The next stage begins at once. The rest of this one is not judged.", colour: "warning" },
  finish: { name: "Finish now", explains: (r) => `${r.to} replaces ${r.from} at once, and is not judged any more.`, colour: "warning" },
  withdraw: { name: "Withdraw", explains: (r) => (r.state === "completed" ? `All requests go to ${r.from} again; the rules are changed too.` : `All requests go to ${r.from} again at once.`), colour: "error" },
};

/** The actions on a release, each with a confirmation. */
export function Actions({ release: r }: { release: Release }) {
  const isEditor = useMay("editor");
  const [asked, setAsked] = useState("");
  const act = acts[asked];
  if (!isEditor) return null;
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1 }}>
      {r.can.map((a) => (
        <Button key={a} variant={a === "resume" ? "contained" : "outlined"} {...(acts[a]?.colour ? { color: acts[a].colour } : {})} onClick={() => setAsked(a)} data-test={`act-${a}`}>{acts[a]?.name ?? a}</Button>
      ))}
      <Confirm
        act={act?.name ?? ""} of={r.name} colour={act?.colour} reason={asked !== "resume" && asked !== "skip"} onClose={() => setAsked("")}
        onGo={async (why) => void (await api.POST("/api/v1/releases/{release}/{act}", { params: { path: { release: String(r.number), act: asked } }, body: { why } }))}
      >
        {act?.explains(r)}
      </Confirm>
    </Box>
  );
}
