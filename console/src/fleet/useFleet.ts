import { queries, words, type Proxy, type Schemas } from "../api/client";

interface Seen {
  fleet: Schemas["Fleet"] | undefined;
  /** When it was read, in ms. */
  at: number;
  /** Why the last read failed; empty: it did not. */
  error: string;
}

/** Reads the proxies regularly as long as the page is open. */
export function useFleet(): Seen {
  const { data, dataUpdatedAt, error } = queries.useQuery("get", "/api/v1/fleet", {}, { refetchInterval: 1500 });
  return { fleet: data, at: dataUpdatedAt, error: error ? `The proxies cannot be read: ${words(error)}` : "" };
}

const order = ["rejecting", "behind", "unconfirmed", "disconnected", "current"];

/** Tells whether a proxy needs attention. */
export const needsAttention = (p: Proxy): boolean => p.state !== "current" || (p.problems ?? []).length > 0;

/** Order of the proxies: those that need attention come first. */
export const urgency = (p: Proxy): number => (needsAttention(p) && p.state === "current" ? 0.5 : order.indexOf(p.state));
