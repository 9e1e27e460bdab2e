import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";

import { queries } from "../api/client";
import { useNavigate } from "../kit/address";
import { type } from "../kit/theme";

const key = "nightjar.tour";

/** The five steps: what to look at, and what to do there. */
const steps = [
  { name: "See the flow", to: "/", text: "The width of a ribbon is requests per second, and a lane in a card is a version with its share. Pick a card or a ribbon to see its figures." },
  { name: "Move weights", to: "/services/sailings?tab=routes&route=timetable", text: "Drag the handle of the route timetable, or type a weight. Forecast the change, then publish it. Edit opens the form of the whole route." },
  { name: "See the effect", to: "/effects", text: "Every revision has an effect: success and latency before and after it, for every caller, service and route, with intervals." },
  { name: "Break something", to: "/drills?service=fares", text: "Start a drill: 30% of the attempts to fares fail for 30 seconds. It ends by itself. The table below says what it did to success." },
  { name: "Release a version", to: "/releases", text: "Start sailings-to-v2. It moves requests to v2 in stages, judges each of them, and goes back by itself if v2 is worse." },
];

/** A short tour of the sample mesh; closed, it does not come back in this browser. */
export function Tour() {
  const [stored, setStored] = useState(() => localStorage.getItem(key) ?? "0");
  const isOpen = stored !== "closed";
  const { data } = queries.useQuery("get", "/api/v1/standins", {}, { enabled: isOpen, staleTime: Infinity });
  const go = useNavigate();
  if (!isOpen || !data || data.standIns.length === 0) return null; // only the sample has stand-ins
  const at = Math.min(Math.max(Number(stored) || 0, 0), steps.length - 1);
  const step = steps[at];
  const store = (next: string) => {
    localStorage.setItem(key, next);
    setStored(next);
  };
  const move = (to: number) => {
    store(String(to));
    go(steps[to]?.to ?? "/");
  };
  if (!step) return null;
  return (
    <Box component="section" aria-label="Tour of the sample" data-test="tour" sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 0.5, mb: 1.5, px: 1.5, py: 1, bgcolor: "background.paper", border: 1, borderColor: "divider", borderLeft: 4, borderLeftColor: "warning.main", borderRadius: 1 }}>
      <Box sx={{ color: "text.secondary", fontSize: type.small, whiteSpace: "nowrap" }}>Tour, {at + 1} of {steps.length}</Box>
      <Box sx={{ flex: "1 1 360px" }}><strong>{step.name}.</strong> {step.text}</Box>
      <Box sx={{ display: "flex", gap: 1 }}>
        {at > 0 && <Button onClick={() => move(at - 1)}>Back</Button>}
        {at < steps.length - 1 && <Button variant="outlined" onClick={() => move(at + 1)} data-test="tour-next">Next: {steps[at + 1]?.name.toLowerCase()}</Button>}
        <Button onClick={() => store("closed")} data-test="tour-close">{at === steps.length - 1 ? "Done" : "Close for good"}</Button>
      </Box>
    </Box>
  );
}
