import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import type { Explanation as Explained } from "../api/client";
import { FactTable } from "../kit/FactTable";
import { percent, plural } from "../kit/format";
import { Place } from "../kit/Place";

const marks: Record<string, string> = { taken: "●", skipped: "○", "not reached": "·" };

/** The routes in order, where the request goes, and the settings that hold. */
export function Explanation({ explained }: { explained: Explained }) {
  return (
    <Box data-test="explanation" sx={{ display: "grid", gap: 1.25 }}>
      <Box sx={{ color: "text.secondary" }}>
        Enters at the {explained.entry}, revision {explained.revision}.
      </Box>
      {explained.steps.map((step) => (
        <Paper key={step.kind + step.name} variant="outlined" sx={{ p: 1.25 }}>
          <Box sx={{ fontWeight: 650, mb: step.isBalanced ? 0 : 0.5 }}>
            {step.kind} {step.name}
            {step.isBalanced && <Box component="span" sx={{ fontWeight: 400 }}>: no routes, balanced over all its instances</Box>}
          </Box>
          {step.routes.map((r) => (
            <Box key={r.route} sx={{ display: "flex", gap: 1, py: 0.25, color: r.result === "taken" ? "text.primary" : "text.secondary" }} >
              <span aria-hidden>{marks[r.result]}</span>
              <Box sx={{ fontWeight: r.result === "taken" ? 650 : 400, whiteSpace: "nowrap" }}>{r.route}</Box>
              <Box sx={{ flex: 1, overflowWrap: "anywhere" }}>
                {r.result}: {r.why} <Place at={r.at} />
              </Box>
            </Box>
          ))}
        </Paper>
      ))}
      {explained.answer && (
        <Alert severity="info" data-test="route-answers">
          Direct response: {explained.answer.status} {explained.answer.location ? `to ${explained.answer.location}` : explained.answer.body}
        </Alert>
      )}
      {(explained.access ?? []).map((a) => (
        <Box key={a.service} data-test="admission">
          Access to {a.service}: <strong>{a.allowed ? (a.isWatched ? "allowed, only watched" : "allowed") : "denied"}</strong> by {a.rule ? `rule ${a.rule}` : "the default"}. <Place at={a.at} />
        </Box>
      ))}
      {explained.refusal && (
        <Alert severity="warning">
          Refused with {explained.refusal.status} {explained.refusal.reason}: {explained.refusal.detail}.
        </Alert>
      )}
      {(explained.unreachable ?? []).map((u) => (
        <Box key={`${u.proxy} ${u.instance}`} data-test="no-way" sx={{ color: "error.main", fontWeight: 600 }}>
          ▼ {u.proxy} cannot reach {u.instance} of {u.version}: {u.cause}
        </Box>
      ))}
      {explained.odds.length > 0 && (
        <Box>
          Goes to{" "}
          {explained.odds.map((o) => `${o.service}/${o.version}${o.site ? `@${o.site}` : ""} ${percent(o.share)} (${plural(o.instances, "instance")})`).join(", ")}.
        </Box>
      )}
      {explained.settings.length > 0 && (
        <FactTable
          isWide head={["Setting", "Value", "Set by", "Where"]}
          rows={explained.settings.map((s) => ({ key: `${s.service ?? ""} ${s.name} ${s.from}`, cells: [`${s.service ? `${s.service}: ` : ""}${s.name}`, <strong key="value">{s.value}</strong>, s.from, <Place key="at" at={s.at} />] }))}
        />
      )}
    </Box>
  );
}
