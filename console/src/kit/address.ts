import { useCallback } from "react";
import { useNavigate, useSearchParams } from "react-router";

export type Change = Record<string, string | null>;

/**
 * The query of the page's address, and a way to change parts of it; an empty value removes
 * a part. A change begins from the address as it is when it is made, not as it was drawn:
 * two that follow each other closely are both kept.
 */
export function useAddress(): [params: URLSearchParams, change: (parts: Change) => void] {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const change = useCallback(
    (parts: Change) => {
      const next = new URLSearchParams(window.location.search);
      for (const [name, value] of Object.entries(parts)) {
        if (value) next.set(name, value);
        else next.delete(name);
      }
      void navigate({ pathname: window.location.pathname, search: next.toString() }, { replace: true });
    },
    [navigate],
  );
  return [params, change];
}
