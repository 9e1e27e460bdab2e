import type { Mark } from "../api/client";

/** A revision as r12, a stage of a release as ⇥15%, a drill as ✂3. */
export const markName = (m: Mark): string => (m.kind === "drill" ? `✂${m.name.replace(/^drill-/, "")}` : m.step ? `⇥${m.step}` : `r${m.name}`);
