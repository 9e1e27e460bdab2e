import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import type { Mesh } from "./client";

/** The newest event of the live stream. */
export interface Live {
  mesh: Mesh | null;
  /** When the last event came, in ms; 0: none yet. */
  at: number;
  /** No event came for three seconds; one should come every second. */
  stale: boolean;
}

const LiveContext = createContext<Live>({ mesh: null, at: 0, stale: false });

export const useLive = (): Live => useContext(LiveContext);

const silence = 3000;

/**
 * Follows the mesh as long as the page is visible. A browser opens six connections
 * to one host for all its tabs, so hidden tabs must hold none.
 */
export function LiveProvider({ children }: { children: ReactNode }) {
  const [live, setLive] = useState<Live>({ mesh: null, at: 0, stale: false });
  useEffect(() => {
    const began = Date.now();
    let source: EventSource;
    const open = () => {
      source = new EventSource("/api/v1/live");
      source.addEventListener("mesh", (event: MessageEvent<string>) => {
        setLive({ mesh: JSON.parse(event.data) as Mesh, at: Date.now(), stale: false });
      });
    };
    const seen = () => {
      if (document.visibilityState === "hidden") source.close();
      else if (source.readyState === EventSource.CLOSED) open();
    };
    const leave = () => source.close(); // the browser may keep the page for the way back
    open();
    document.addEventListener("visibilitychange", seen);
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", seen);
    const watch = setInterval(() => {
      setLive((now) => {
        const stale = document.visibilityState !== "hidden" && Date.now() - (now.at || began) > silence;
        return stale === now.stale ? now : { ...now, stale };
      });
      // A browser gives up for good after some failures; this does not.
      seen();
    }, 1000);
    return () => {
      document.removeEventListener("visibilitychange", seen);
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", seen);
      clearInterval(watch);
      source.close();
    };
  }, []);
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}
