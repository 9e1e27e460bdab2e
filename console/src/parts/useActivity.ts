import { useEffect, useState } from "react";
import { readActivity, type ActivityEntry } from "../api/client";

const pace = 1500;

/** The activity of a service, newest first; read regularly as long as the page is open. */
export function useActivity(service: string): ActivityEntry[] | null {
  const [seen, setSeen] = useState<{ of: string; list: ActivityEntry[] } | null>(null);
  useEffect(() => {
    const stop = new AbortController();
    let timer = 0;
    const read = async () => {
      try {
        const list = await readActivity(service, 30, AbortSignal.any([stop.signal, AbortSignal.timeout(5000)]));
        setSeen({ of: service, list });
      } catch {
        if (stop.signal.aborted) return; // the notice above the page says that the service does not respond
      }
      timer = window.setTimeout(() => void read(), pace);
    };
    void read();
    return () => {
      stop.abort();
      window.clearTimeout(timer);
    };
  }, [service]);
  return seen && seen.of === service ? seen.list : null;
}
