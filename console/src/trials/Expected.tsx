import Box from "@mui/material/Box";
import type { ExpectationResult } from "../api/client";
import { FactTable } from "../kit/FactTable";
import { Verdict } from "../kit/Verdict";

interface Props {
  list: ExpectationResult[];
  /** The trial is running: nothing is final. */
  running?: boolean;
  /** Results under the rules in force, in the same order. */
  now?: ExpectationResult[];
}

/** What was expected, and what was measured. */
export function Expected({ list, running = false, now = [] }: Props) {
  if (list.length === 0) return null;
  const state = (j: ExpectationResult) => (j.isImpossible ? "cannot be met" : j.value === null ? "nothing measured yet" : j.isMet ? "met so far" : "missed so far");
  return (
    <Box data-test="expected" sx={{ my: 1 }}>
      <FactTable
        head={["Expected", "Verdict", now.length > 0 ? "Under the draft (95%)" : "Measured (95%)", ...(now.length > 0 ? ["Under the rules in force"] : []), "Remark"]}
        rows={list.map((j, i) => ({
          key: j.expectation,
          cells: [j.expectation, running ? state(j) : <Verdict key="verdict" of={j.isMet ? "met" : "missed"} />, j.measured, ...(now.length > 0 ? [now[i]?.measured ?? ""] : []), j.value !== null && !j.isConclusive ? "inconclusive" : ""],
        }))}
      />
    </Box>
  );
}
