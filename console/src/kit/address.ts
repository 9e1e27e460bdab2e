import { useCallback, useDeferredValue, useMemo } from "react";
import { navigate as go, useBrowserLocation, useSearch } from "wouter/use-browser-location";

export type Change = Record<string, string | null>;

/** The path of the page. The page before it stays until the code of the next one is there. */
export const usePath: typeof useBrowserLocation = () => {
  const [path, navigate] = useBrowserLocation();
  return [useDeferredValue(path), navigate];
};

/** A way to go to another address, within the console. */
export function useNavigate(): (to: string) => void {
  return useCallback((to: string) => go(to), []);
}

/**
 * The query of the page's address, and a way to change parts of it; an empty value removes
 * a part. A change begins from the address as it is when it is made, not as it was drawn:
 * two that follow each other closely are both kept.
 */
export function useAddress(): [params: URLSearchParams, change: (parts: Change) => void] {
  const search = useSearch();
  const params = useMemo(() => new URLSearchParams(search), [search]);
  const change = useCallback((parts: Change) => {
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(parts)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    const text = next.toString();
    go(window.location.pathname + (text && `?${text}`), { replace: true });
  }, []);
  return [params, change];
}
