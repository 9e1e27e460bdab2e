import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import { queries, words, type EffectSummary } from "../api/client";
import { useAddress } from "../kit/address";
import { CopyAsCommand, shellWord } from "../kit/Command";
import { EmptyState } from "../kit/EmptyState";
import { moment } from "../kit/format";
import { ListEntry } from "../kit/ListEntry";
import { PageHeader } from "../kit/PageHeader";
import { useRange } from "../kit/range";
import { TimeBar } from "../kit/TimeBar";
import { type } from "../kit/theme";
import { Verdict } from "../kit/Verdict";
import { EffectView } from "./EffectView";

/** The effects of revisions: a list, and one in full. A moment on the time bar can be compared too. */
export function EffectsPage() {
  const [params, change] = useAddress();
  const { site } = useRange();
  const flag = site && ` --site ${shellWord(site)}`;
  const { data, error } = queries.useQuery("get", "/api/v1/effects", { params: { query: { limit: 60 } } }, { refetchInterval: 3000 });
  const list = data?.effects;
  const at = Number(params.get("at") ?? 0);
  const asked = Number(params.get("revision") ?? 0);
  const revision = at && !asked ? 0 : asked || (list?.[0]?.revision ?? 0);
  return (
    <>
      <PageHeader
        title="Effects" about={`Success and latency before and after each revision, with 95% intervals.${site ? " The list is of all sites." : ""}`}
        actions={<CopyAsCommand line={(revision ? `nightjar effect ${revision}` : at ? `nightjar effect --at ${new Date(at * 1000).toISOString()}` : "nightjar effect") + flag} />}
      />
      <TimeBar />
      {error && !list && <Alert severity="error">{words(error)}</Alert>}
      {list?.length === 0 && (
        <EmptyState title="Nothing was published yet" commands={["nightjar rules publish DIRECTORY --message WORDS"]}>
          Published revisions are listed here with their effects. You can also pick a moment on the bar above, to compare the time before it with the time after it.
        </EmptyState>
      )}
      <Box sx={{ display: "grid", gap: 2, gridTemplateColumns: { xs: "minmax(0, 1fr)", lg: "270px minmax(0, 1fr)" }, mt: 1 }}>
        <Box component="ol" tabIndex={0} aria-label="Revisions" sx={{ listStyle: "none", m: 0, p: 0, maxHeight: { xs: 220, lg: 760 }, overflowY: "auto" }} data-test="effects">
          {(list ?? []).map((h) => (
            <Box component="li" key={h.revision}>
              <Entry of={h} picked={h.revision === revision} onPick={() => change({ revision: String(h.revision), at: null })} />
            </Box>
          ))}
        </Box>
        {(revision > 0 || at > 0) && <EffectView key={`${revision} ${at} ${site}`} revision={revision} at={at} site={site} />}
      </Box>
    </>
  );
}

function Entry({ of: h, picked, onPick }: { of: EffectSummary; picked: boolean; onPick: () => void }) {
  const changed = [h.worse > 0 && `${h.worse} worse`, h.better > 0 && `${h.better} better`].filter(Boolean).join(", ");
  return (
    <ListEntry picked={picked} onPick={onPick} test={`effect-${h.revision}`}>
      <Box sx={{ display: "flex", gap: 1, alignItems: "baseline", whiteSpace: "nowrap" }}>
        <strong>r{h.revision}</strong>
        <Box component="time" dateTime={h.at} title={h.at} sx={{ color: "text.secondary", fontSize: type.small }}>{moment(h.at)}</Box>
        <Box sx={{ ml: "auto" }}>{h.verdict ? <Verdict of={h.verdict} /> : <Box component="span" sx={{ color: "text.secondary" }}>{h.isComplete ? "too few requests" : "measuring"}</Box>}</Box>
      </Box>
      <Box sx={{ fontSize: type.small, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>{h.message || h.kind} <Box component="span" sx={{ color: "text.secondary" }}>by {h.author}</Box></Box>
      <Box sx={{ fontSize: type.small, color: "text.secondary" }}>{[!h.isComplete && h.due && `until ${moment(h.due)}`, changed, h.worst && `worst: ${h.worst}`].filter(Boolean).join("; ")}</Box>
    </ListEntry>
  );
}
