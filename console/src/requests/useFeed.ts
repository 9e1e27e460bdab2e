import { useEffect, useState } from "react";
import { followRequests, ApiError, words, type RequestRecord } from "../api/client";

/** A request with a key of its own. */
export interface Row extends RequestRecord {
  key: string;
}

export interface Feed {
  rows: Row[];
  /** Requests received since the filter was set, with those that are not in the list any more. */
  came: number;
  /** Requests that matched and were dropped, because there was no room for them. */
  dropped: number;
  error: string;
}

const kept = 500;
const pace = 300; // ms between two updates of the page
const again = 1500; // ms before a lost stream is opened again

const empty: Feed = { rows: [], came: 0, dropped: 0, error: "" };

/**
 * Follows the requests that match a filter, given as the query of its address. While it is
 * paused, or the page is hidden, proxies send none.
 */
export function useFeed(text: string, paused: boolean): Feed {
  const [feed, setFeed] = useState<{ of: string; feed: Feed }>({ of: text, feed: empty });
  useEffect(() => {
    if (paused) return;
    const stop = new AbortController();
    let fresh: Row[] = [];
    let dropped = 0;
    let came = 0;
    const change = (with_: (old: Feed) => Feed) => setFeed((now) => ({ of: text, feed: with_(now.of === text ? now.feed : empty) }));
    const draw = window.setInterval(() => {
      if (fresh.length === 0 && dropped === 0) return;
      const [rows, lost] = [fresh, dropped];
      fresh = [];
      dropped = 0;
      change((old) => ({ rows: [...rows.sort((a, b) => b.at.localeCompare(a.at)), ...old.rows].slice(0, kept), came: old.came + rows.length, dropped: old.dropped + lost, error: "" }));
    }, pace);
    let away = new AbortController();
    let wake: () => unknown = () => undefined;
    const leave = () => away.abort(); // the browser may keep the page, and its connections, for the way back
    const see = () => (document.visibilityState === "hidden" ? leave() : wake());
    window.addEventListener("pagehide", leave);
    document.addEventListener("visibilitychange", see);
    const follow = async () => {
      while (!stop.signal.aborted) {
        if (document.visibilityState === "hidden") {
          await new Promise<void>((seen) => { wake = seen; });
          continue;
        }
        away = new AbortController();
        let error = "The service ended the stream; opening it again.";
        try {
          await followRequests(
            text,
            (line) => {
              dropped += line.dropped ?? 0;
              if (line.request) fresh.push({ ...line.request, key: `${came++}.${Date.now()}` });
            },
            AbortSignal.any([stop.signal, away.signal]),
          );
        } catch (e) {
          error = words(e);
          if (e instanceof ApiError && e.problem.status === 422) { // the filter is invalid
            change((old) => ({ ...old, error }));
            return;
          }
        }
        if (stop.signal.aborted) return;
        if (away.signal.aborted) continue;
        change((old) => ({ ...old, error }));
        await new Promise((done) => setTimeout(done, again));
      }
    };
    void follow();
    return () => {
      stop.abort();
      wake();
      window.removeEventListener("pagehide", leave);
      document.removeEventListener("visibilitychange", see);
      window.clearInterval(draw);
    };
  }, [text, paused]);
  return feed.of === text ? feed.feed : empty;
}
