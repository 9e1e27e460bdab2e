import { useEffect, useRef, useState } from "react";

export interface Polled<T> {
  value: T | null;
  /** Why the last read failed; empty: it did not. */
  error: string;
}

/** Reads something regularly as long as the page is open, and at once when the key changes. */
export function usePolled<T>(key: string, pace: number, read: (signal: AbortSignal) => Promise<T>): Polled<T> {
  const [seen, setSeen] = useState<{ key: string; value: T | null; error: string }>({ key, value: null, error: "" });
  const latest = useRef(read);
  useEffect(() => {
    latest.current = read;
  });
  useEffect(() => {
    const stop = new AbortController();
    let timer = 0;
    const again = async () => {
      try {
        const value = await latest.current(AbortSignal.any([stop.signal, AbortSignal.timeout(10_000)]));
        setSeen({ key, value, error: "" });
      } catch (e) {
        if (stop.signal.aborted) return;
        setSeen((old) => ({ key, value: old.key === key ? old.value : null, error: e instanceof Error ? e.message : String(e) }));
      }
      timer = window.setTimeout(() => void again(), pace);
    };
    void again();
    return () => {
      stop.abort();
      window.clearTimeout(timer);
    };
  }, [key, pace]);
  return seen.key === key ? { value: seen.value, error: seen.error } : { value: null, error: "" };
}
