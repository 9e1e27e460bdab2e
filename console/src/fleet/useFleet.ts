import { useEffect, useState } from "react";
import { readFleet, type Fleet, type Proxy } from "../api/client";

const pace = 1500;

interface Seen {
  fleet: Fleet | null;
  /** When it was read, in ms. */
  at: number;
  /** Why the last read failed; empty: it did not. */
  error: string;
}

/** Reads the proxies regularly as long as the page is open. */
export function useFleet(): Seen {
  const [seen, setSeen] = useState<Seen>({ fleet: null, at: 0, error: "" });
  useEffect(() => {
    const stop = new AbortController();
    let timer = 0;
    const read = async () => {
      try {
        const fleet = await readFleet(AbortSignal.any([stop.signal, AbortSignal.timeout(5000)]));
        setSeen({ fleet, at: Date.now(), error: "" });
      } catch (e) {
        if (stop.signal.aborted) return;
        setSeen((s) => ({ ...s, error: e instanceof Error ? `The proxies cannot be read: ${e.message}.` : String(e) }));
      }
      timer = window.setTimeout(() => void read(), pace);
    };
    void read();
    return () => {
      stop.abort();
      window.clearTimeout(timer);
    };
  }, []);
  return seen;
}

const order = ["rejecting", "behind", "unconfirmed", "disconnected", "current"];

/** Tells whether a proxy needs attention. */
export const needsAttention = (p: Proxy): boolean => p.state !== "current" || (p.problems ?? []).length > 0;

/** Order of the proxies: those that need attention come first. */
export const urgency = (p: Proxy): number => (needsAttention(p) && p.state === "current" ? 0.5 : order.indexOf(p.state));
