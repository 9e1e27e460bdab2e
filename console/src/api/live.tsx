import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import type { Mesh } from "./client";

/** What the live stream says. */
export interface Live {
  mesh: Mesh | null;
  /** When the last event came, in ms; 0: none yet. */
  at: number;
  /** No event for longer than two seconds should ever take. */
  stale: boolean;
}

const LiveContext = createContext<Live>({ mesh: null, at: 0, stale: false });

export const useLive = (): Live => useContext(LiveContext);

const silence = 3000;

/** Follows the mesh as long as the page is open. */
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
    open();
    const watch = setInterval(() => {
      setLive((now) => {
        const stale = Date.now() - (now.at || began) > silence;
        return stale === now.stale ? now : { ...now, stale };
      });
      // A browser gives up for good after some failures; this does not.
      if (source.readyState === EventSource.CLOSED) open();
    }, 1000);
    return () => {
      clearInterval(watch);
      source.close();
    };
  }, []);
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}
