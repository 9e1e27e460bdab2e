import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { queries, words } from "../api/client";
import { CopyAsCommand } from "../kit/Command";
import { Drawer } from "../kit/Drawer";
import { plural } from "../kit/format";

const marks = {
  problem: { mark: "✗", colour: "error.main", name: "Problem" },
  note: { mark: "·", colour: "text.secondary", name: "Note" },
  well: { mark: "✓", colour: "success.main", name: "Well" },
};

/** What is wrong with the service, its records and its proxies, and what to do about it. */
export function Examination({ onClose }: { onClose: () => void }) {
  const { data, error, isFetching, refetch } = queries.useQuery("get", "/api/v1/doctor", {}, { staleTime: 10_000, refetchOnWindowFocus: false, retry: false });
  return (
    <Drawer title={data ? (data.problems === 0 ? "Nothing is wrong" : plural(data.problems, "problem")) : "Examination"} onClose={onClose} test="examination">
      {error && <Alert severity="error" sx={{ mb: 1 }}>{words(error)}</Alert>}
      {!data && !error && <Box sx={{ color: "text.secondary" }}>Looking at records, clocks, proxies, certificates and rules</Box>}
      {data?.findings.map((f) => {
        const { mark, colour, name } = marks[f.severity as keyof typeof marks] ?? marks.note;
        return (
          <Box key={f.area + f.what} sx={{ borderTop: 1, borderColor: "divider", py: 1, display: "grid", gridTemplateColumns: "24px 1fr" }}>
            <Box role="img" aria-label={name} sx={{ color: colour, fontWeight: 700 }}>{mark}</Box>
            <Box sx={{ minWidth: 0, overflowWrap: "anywhere" }}>
              <strong>{f.area}</strong>: {f.what}
              {f.do && <Box sx={{ mt: 0.5 }}>→ {f.do}</Box>}
            </Box>
          </Box>
        );
      })}
      <Box sx={{ display: "flex", gap: 1, mt: 2 }}>
        <Button variant="outlined" disabled={isFetching} onClick={() => void refetch()}>{isFetching ? "Looking" : "Look again"}</Button>
        <CopyAsCommand line="nightjar doctor" />
      </Box>
    </Drawer>
  );
}
