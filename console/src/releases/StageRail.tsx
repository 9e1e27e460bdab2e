import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import type { Release, StageJudgement } from "../api/client";
import { moment, percent } from "../kit/format";
import { type } from "../kit/theme";

const looks: Record<string, { mark: string; word: string }> = {
  met: { mark: "▲", word: "met" },
  missed: { mark: "▼", word: "missed" },
  inconclusive: { mark: "◆", word: "inconclusive" },
  "too few requests": { mark: "○", word: "too few requests" },
};

/** A judgement in one line. */
export const summaryOf = (j: StageJudgement): string =>
  `${moment(j.at)}: ${j.verdict}. ${j.findings.map((f) => `${f.expectation}: ${f.measured}`).join("; ")}. New ${percent(j.to.success)} of ${j.to.requests}, old ${percent(j.from.success)} of ${j.from.requests}`;

interface Props {
  release: Release;
  picked: number;
  onPick: (judgement: number) => void;
}

/** The stages from left to right with progress; judgements are marks below their stages. */
export function StageRail({ release: r, picked, onPick }: Props) {
  const { palette } = useTheme();
  const judgements = r.judgements ?? [];
  return (
    <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0, display: "grid", gap: "3px", gridTemplateColumns: `repeat(${r.steps.length}, minmax(92px, 1fr))`, overflowX: "auto" }} data-test="rail" aria-label="Stages">
      {r.steps.map((s, i) => {
        const now = i === r.step;
        const past = i < r.step || (now && r.state === "completed");
        const back = now && r.state === "withdrawn";
        const full = past ? 1 : now ? Math.min(1, s.durationSeconds > 0 ? r.judgedSeconds / s.durationSeconds : 1) : 0;
        const mine = judgements.map((j, n) => ({ j, n })).filter(({ j }) => j.step === i);
        const colour = back ? palette.error.main : now && r.state === "held" ? palette.warning.main : palette.primary.main;
        return (
          <Box component="li" key={s.name} aria-current={now ? "step" : undefined} data-test={`step-${s.name}`}>
            <Box
              sx={{
                position: "relative", height: 40, display: "flex", alignItems: "center", justifyContent: "center", gap: 0.75, overflow: "hidden", bgcolor: "background.default", fontWeight: now ? 700 : 450,
                border: 1, borderColor: now ? colour : "divider", borderTopWidth: now ? 3 : 1,
                clipPath: "polygon(0 0, calc(100% - 9px) 0, 100% 50%, calc(100% - 9px) 100%, 0 100%, 9px 50%)",
              }}
            >
              <Box sx={{ position: "absolute", inset: 0, width: `${100 * full}%`, bgcolor: colour, opacity: past ? 0.3 : 0.18, ...(back ? { backgroundImage: `repeating-linear-gradient(45deg, ${palette.background.paper} 0 2px, transparent 2px 6px)` } : {}) }} />
              <Box component="span" sx={{ position: "relative" }}>{past ? "✓ " : back ? "✗ " : now && r.state === "held" ? "‖ " : now ? "▸ " : ""}{s.name}</Box>
              {s.holds && <Box component="span" sx={{ position: "relative", fontSize: type.tiny, color: "text.secondary" }}>then holds</Box>}
            </Box>
            <Box sx={{ display: "flex", flexWrap: "wrap", minHeight: 20, mt: "2px", px: 0.5 }}>
              {mine.map(({ j, n }) => (
                <Box
                  key={n} component="button" type="button" title={summaryOf(j)} aria-label={summaryOf(j)} aria-pressed={n === picked} onClick={() => onPick(n)} data-test={`tick-${looks[j.verdict]?.word.replaceAll(" ", "-") ?? ""}`}
                  sx={{
                    border: 0, bgcolor: n === picked ? "action.selected" : "transparent", font: "inherit", fontSize: type.tiny, lineHeight: "16px", width: 14, p: 0, cursor: "pointer", borderRadius: 0.5,
                    color: j.verdict === "missed" ? "error.main" : j.verdict === "met" ? "success.main" : "warning.main", "&:hover": { bgcolor: "action.hover" },
                  }}
                >
                  {looks[j.verdict]?.mark ?? "?"}
                </Box>
              ))}
            </Box>
          </Box>
        );
      })}
    </Box>
  );
}
