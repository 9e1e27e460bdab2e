import Alert from "@mui/material/Alert";
import type { Published } from "../api/client";
import { plural } from "../kit/format";
import { EffectLine } from "./EffectLine";

/** What a publish led to: which revision is in force where, and who is without it. */
export function publishedText(p: Published): string {
  if (p.unchanged) return `Nothing was published: revision ${p.revision}, which is in force, has the same text.`;
  const { acknowledged, connected, afterMS, missing, away } = p.rollout;
  return [
    `Revision ${p.revision} is in force in ${acknowledged} of ${plural(connected, "connected proxy", "connected proxies")} after ${afterMS.toFixed(0)} ms.`,
    missing.length > 0 && `Not in ${missing.join(", ")}.`,
    away.length > 0 && `Not connected now, and without it until they come back: ${away.join(", ")}.`,
    ...(p.withdrawn ?? []).map((name) => `It withdraws release ${name}, whose route it changes.`),
    ...(p.notes ?? []),
    "Rule files on disk are unchanged.",
  ].filter(Boolean).join(" ");
}

/** What a publish led to, with the way to its effect. */
export function PublishedNotice({ published }: { published: Published }) {
  const { missing, away } = published.rollout;
  return (
    <Alert severity={missing.length + away.length > 0 ? "warning" : "success"} sx={{ mt: 1 }} data-test="published">
      {publishedText(published)}
      {!published.unchanged && <EffectLine revision={published.revision} />}
    </Alert>
  );
}
