import Box from "@mui/material/Box";
import { Link } from "wouter";
import { queries } from "../api/client";
import { moment, percent } from "../kit/format";
import { Verdict } from "../kit/Verdict";
import { points } from "../effects/Rows";

/** What a revision does to success, as its window fills. */
export function EffectLine({ revision }: { revision: number }) {
  const { data: e } = queries.useQuery("get", "/api/v1/effect", { params: { query: { revision } } }, { refetchInterval: (q) => (q.state.data?.isComplete ? false : 3000) });
  const whole = e?.rows.find((r) => r.kind === "mesh");
  const worst = e?.rows.find((r) => r.verdict === "worse" && r.kind !== "mesh");
  return (
    <Box data-test="effect-line">
      <Link to={`/effects?revision=${revision}`} style={{ color: "inherit" }}>Effect</Link>{" "}
      {!e || !whole ? "is being measured." : (
        <>
          after {e.after.seconds} s: <Verdict of={whole.verdict} />{whole.success.after !== null && `, success ${percent(whole.success.before)} → ${percent(whole.success.after)}`}
          {worst && <>; worst: {worst.kind} {worst.name}, {points(worst.success)}</>}.{!e.isComplete && e.due && ` It is final at ${moment(e.due)}.`}
        </>
      )}
    </Box>
  );
}
