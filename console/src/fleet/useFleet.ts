import { useEffect, useState } from "react";
import { readFleet, type Fleet, type Member } from "../api/client";

const pace = 1500;

interface Seen {
  fleet: Fleet | null;
  /** When it was read, in ms. */
  at: number;
  /** Why the newest could not be read; empty: it could. */
  trouble: string;
}

/** Reads the proxies again and again as long as the page is open. */
export function useFleet(): Seen {
  const [seen, setSeen] = useState<Seen>({ fleet: null, at: 0, trouble: "" });
  useEffect(() => {
    const stop = new AbortController();
    let timer = 0;
    const read = async () => {
      try {
        const fleet = await readFleet(AbortSignal.any([stop.signal, AbortSignal.timeout(5000)]));
        setSeen({ fleet, at: Date.now(), trouble: "" });
      } catch (e) {
        if (stop.signal.aborted) return;
        setSeen((s) => ({ ...s, trouble: e instanceof Error ? `The proxies cannot be read: ${e.message}.` : String(e) }));
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

const order = ["refuses", "behind", "doubted", "away", "follows"];

/** Whether a person should look at a proxy. */
export const needsLook = (p: Member): boolean => p.state !== "follows" || (p.problems ?? []).length > 0;

/** Who needs a look comes first. */
export const urgency = (p: Member): number => (needsLook(p) && p.state === "follows" ? 0.5 : order.indexOf(p.state));
