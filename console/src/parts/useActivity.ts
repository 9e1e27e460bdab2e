import { useEffect, useState } from "react";
import { readActivity, type Happened } from "../api/client";

const pace = 1500;

/** What happened to a service, newest first; read again and again as long as the page is open. */
export function useActivity(service: string): Happened[] | null {
  const [seen, setSeen] = useState<{ of: string; list: Happened[] } | null>(null);
  useEffect(() => {
    const stop = new AbortController();
    let timer = 0;
    const read = async () => {
      try {
        const list = await readActivity(service, 30, AbortSignal.any([stop.signal, AbortSignal.timeout(5000)]));
        setSeen({ of: service, list });
      } catch {
        if (stop.signal.aborted) return; // the notice above the page says that the service is away
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
