import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { useActivity } from "../parts/useActivity";

/** Changes and guard events of a service, newest first. */
export function Activity({ service }: { service: string }) {
  const list = useActivity(service);
  if (!list) return <Typography sx={{ color: "text.secondary" }}>Loading the activity</Typography>;
  if (list.length === 0) return <Typography sx={{ color: "text.secondary" }}>No change, guard event or drill is recorded.</Typography>;
  return (
    <Box component="ol" sx={{ listStyle: "none", m: 0, p: 0 }} data-test="activity">
      {list.map((e) => (
        <Box component="li" key={e.number} sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, py: 0.4, borderBottom: 1, borderColor: "divider" }}>
          <Box component="time" dateTime={e.at} title={e.at} sx={{ color: "text.secondary", minWidth: 84 }}>{new Date(e.at).toLocaleTimeString()}</Box>
          <Box sx={{ minWidth: 120 }}>{e.who}</Box>
          <Box component="strong" sx={{ minWidth: 125 }}>{e.kind}</Box>
          <Box sx={{ minWidth: 120 }}>{e.instance ?? [e.service, e.version].filter(Boolean).join("/")}</Box>
          <Box sx={{ color: "text.secondary", flex: 1, minWidth: 200 }}>{e.detail}</Box>
        </Box>
      ))}
    </Box>
  );
}
