/** A share of one with one decimal; what is not all or nothing never rounds to that. */
export function percent(share: number | null | undefined): string {
  if (share === null || share === undefined) return "–";
  const text = `${(100 * share).toFixed(1)}%`;
  if (share > 0 && text === "0.0%") return "<0.1%";
  if (share < 1 && text === "100.0%") return ">99.9%";
  return text;
}

export function millis(ms: number): string {
  if (ms === 0) return "–";
  if (ms < 10) return `${ms.toFixed(2)} ms`;
  if (ms < 100) return `${ms.toFixed(1)} ms`;
  return ms < 10_000 ? `${ms.toFixed(0)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

export const rate = (rps: number): string => (rps < 10 ? rps.toFixed(1) : rps.toFixed(0));

export const plural = (n: number, word: string): string => `${n} ${word}${n === 1 ? "" : "s"}`;

/** Local time of day, for a person; the title of the element has UTC. */
export const timeOfDay = (iso: string): string => new Date(iso).toLocaleTimeString();
