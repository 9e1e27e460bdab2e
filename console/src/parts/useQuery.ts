import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** The query of the page's address, and a way to change parts of it; an empty value removes a part. */
export function useQuery(): [URLSearchParams, (change: Record<string, string | null>) => void] {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (change: Record<string, string | null>) => {
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          for (const [name, value] of Object.entries(change)) {
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
  return [params, set];
}
