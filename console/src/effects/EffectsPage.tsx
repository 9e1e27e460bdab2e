import Box from "@mui/material/Box";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import { useQuery } from "../parts/useQuery";
import { Forecasts } from "./Forecasts";
import { Revisions } from "./Revisions";
import { Trials } from "./Trials";

const views: Record<string, [string, string]> = {
  "": ["Revisions", "Success and latency before and after each revision, with 95% intervals."],
  trials: ["Trials", "A limited load with expectations, under the rules in force or under a draft that only its requests follow."],
  forecast: ["Forecast", "What would happen under a draft, simulated from measurements with the code of the proxies."],
};

/** Effects of revisions, trials and forecasts. */
export function EffectsPage() {
  const [params, change] = useQuery();
  const view = params.get("view") ?? "";
  return (
    <>
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 1, mb: 1.5 }}>
        <Typography variant="h1">Effects</Typography>
        <ToggleButtonGroup size="small" exclusive value={view} onChange={(_, v: string | null) => { if (v !== null) change({ view: v, revision: null, trial: null, against: null }); }} aria-label="View">
          {Object.entries(views).map(([v, [name]]) => <ToggleButton key={v} value={v} data-test={`view-${v || "effects"}`} sx={{ textTransform: "none", py: 0.25 }}>{name}</ToggleButton>)}
        </ToggleButtonGroup>
        <Box sx={{ color: "text.secondary", flex: 1, minWidth: 260 }}>{views[view]?.[1]}</Box>
      </Box>
      {view === "trials" ? <Trials /> : view === "forecast" ? <Forecasts /> : <Revisions />}
    </>
  );
}
