import { useEffect, useRef, useState } from "react";
import { useAddress } from "./address";
import { queries, words, type Mesh } from "../api/client";
import { newestMesh, useMesh } from "../api/live";
import { clock } from "./format";

/** The spans that all pages can show, in seconds. */
export const spans = { "15m": 900, "1h": 3600, "6h": 21_600, "24h": 86_400, "14d": 1_209_600 };

export type Span = keyof typeof spans;

/** The names of spans, for people. */
export const spanNames: Record<Span, string> = { "15m": "Last 15 minutes", "1h": "Last hour", "6h": "Last 6 hours", "24h": "Last 24 hours", "14d": "Last 14 days" };

const live = 10; // seconds that the figures of the present cover

/** The time that the page shows. */
export interface Range {
  /** Its span; null: the present, or a moment. */
  span: Span | null;
  /** A moment, in seconds since 1970; 0: up to now. */
  at: number;
  /** How long the figures cover, in seconds. */
  seconds: number;
  /** How long charts and lists cover, in seconds. */
  history: number;
  label: string;
  /** Only what runs at this site, and the requests that were made or answered there; empty: everything. */
  site: string;
}

/** Reads the range from an address: range=1h, or at=SECONDS; and site=NAME. */
export function rangeOf(params: URLSearchParams): Range {
  const site = params.get("site") ?? "";
  const at = Math.floor(Number(params.get("at") ?? 0)) || 0;
  const span = params.get("range");
  if (at > 0) return { span: null, at, seconds: live, history: spans["15m"], label: clock(at), site };
  if (span !== null && Object.hasOwn(spans, span)) {
    const seconds = spans[span as Span];
    return { span: span as Span, at: 0, seconds, history: seconds, label: spanNames[span as Span], site };
  }
  return { span: null, at: 0, seconds: live, history: spans["15m"], label: "Now", site };
}

/** The range of the page's address. */
export function useRange(): Range {
  const [params] = useAddress();
  return rangeOf(params);
}

/** The part of an address that says the range, for links to other pages; empty: the present, everywhere. */
export function rangeSearch(r: Range): string {
  const parts = [r.at ? `at=${r.at}` : r.span ? `range=${r.span}` : "", r.site && `site=${encodeURIComponent(r.site)}`].filter(Boolean);
  return parts.length > 0 ? `?${parts.join("&")}` : "";
}

/** The value of up to so many milliseconds ago: it changes at most once in that time. */
export function useThrottled<T>(value: T, ms: number): T {
  const [kept, setKept] = useState(value);
  const last = useRef(0);
  useEffect(() => {
    const wait = window.setTimeout(() => {
      last.current = Date.now();
      setKept(value);
    }, Math.max(0, last.current + ms - Date.now()));
    return () => window.clearTimeout(wait);
  }, [value, ms]);
  return kept;
}

/** How often the figures of a span are read again, in ms. */
const pace = (seconds: number): number => (seconds <= live ? 1000 : seconds <= 900 ? 5000 : seconds <= 21_600 ? 20_000 : 60_000);

export interface MeshView {
  /** While another moment loads, the one before. */
  mesh: Mesh | null;
  /** Why it could not be read; it is read again. */
  error: string;
}

const whole = (mesh: Mesh | null) => mesh;
const nothing = () => null;

/** The mesh in the range of the page. A moment is read at most five times a second. */
export function useMeshView(): MeshView {
  const range = useRange();
  const { site } = range;
  const isLive = !range.at && !range.span && !site; // the live stream is of the whole mesh
  const now = useMesh(isLive ? whole : nothing);
  const at = useThrottled(range.at, 200);
  // The picture before stays until there is another.
  const past = queries.useQuery("get", "/api/v1/mesh", { params: { query: { window: range.seconds, ...(at ? { at } : {}), ...(site ? { site } : {}) } } }, {
    enabled: !isLive && (at > 0) === (range.at > 0), structuralSharing: false,
    ...(isLive ? {} : { placeholderData: (old) => old ?? newestMesh() ?? undefined }), refetchInterval: at ? false : pace(range.seconds), staleTime: at ? Infinity : 0,
  });
  if (isLive) return { mesh: now, error: "" };
  return { mesh: past.data ?? null, error: past.error ? words(past.error) : "" };
}
