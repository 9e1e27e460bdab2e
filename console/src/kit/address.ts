import { useCallback } from "react";
import { useSearchParams } from "react-router";

export type Change = Record<string, string | null>;

/** The query of the page's address, and a way to change parts of it; an empty value removes a part. */
export function useAddress(): [params: URLSearchParams, change: (parts: Change) => void] {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (parts: Change) => {
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          for (const [name, value] of Object.entries(parts)) {
            if (value) next.set(name, value);
            else next.delete(name);
          }
          return next;
        },
        { replace: true },
      );
    },
    [setParams],
  );
  return [params, change];
}
