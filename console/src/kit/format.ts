/** A share of one with one decimal; a share between 0 and 1 never rounds to either. */
export function percent(share: number | null | undefined): string {
  if (share === null || share === undefined) return "–";
  const text = `${(100 * share).toFixed(1)}%`;
  if (share > 0 && text === "0.0%") return "<0.1%";
  if (share < 1 && text === "100.0%") return ">99.9%";
  return text;
}

export function millis(ms: number): string {
  if (ms === 0) return "–";
  if (ms < 10) return `${ms.toFixed(2)} ms`;
  if (ms < 100) return `${ms.toFixed(1)} ms`;
  return ms < 10_000 ? `${ms.toFixed(0)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

export const rate = (rps: number): string => (rps < 10 ? rps.toFixed(1) : rps.toFixed(0));

export const plural = (n: number, word: string, many = `${word}s`): string => `${n} ${n === 1 ? word : many}`;

/** An amount of memory in MiB; unknown: a dash. */
export function bytes(n: number): string {
  if (n === 0) return "–";
  const mib = n / (1 << 20);
  return mib.toFixed(1);
}

/** Time since something happened. */
export function ago(ms: number): string {
  const s = Math.round(ms / 1000);
  if (s < 1) return "now";
  if (s < 120) return `${s} s ago`;
  return s < 7200 ? `${Math.round(s / 60)} min ago` : `${Math.round(s / 3600)} h ago`;
}

const locale = "en-GB"; // one way to write times on every machine: 24 hours, day before month

/** Local time of day; the title of the element has UTC. */
export const timeOfDay = (iso: string): string => new Date(iso).toLocaleTimeString(locale);

/** Local time: of today the time of day alone, otherwise with the date, and with the year if it is another. */
export function moment(at: string | number, now = Date.now()): string {
  const d = new Date(at);
  const today = new Date(now);
  const time = d.toLocaleTimeString(locale);
  if (d.toDateString() === today.toDateString()) return time;
  const year = d.getFullYear() === today.getFullYear() ? {} : { year: "numeric" as const };
  return `${d.toLocaleDateString(locale, { day: "numeric", month: "short", ...year })}, ${time}`;
}

/** A day with its year, for what lasts long. */
export const day = (iso: string): string => new Date(iso).toLocaleDateString(locale, { dateStyle: "medium" });

/** A label of a time axis that is so many seconds long. */
export function axisTime(at: Date, long: number): string {
  if (long > 86_400) return at.toLocaleDateString(locale, { day: "numeric", month: "short" });
  return at.toLocaleTimeString(locale, { hour: "2-digit", minute: "2-digit", ...(long < 300 ? { second: "2-digit" } : {}) });
}

/** A duration in milliseconds, in the units that fit. */
export function seconds(ms: number): string {
  const s = ms / 1000;
  if (s < 10) return `${+s.toFixed(1)} s`;
  if (s < 119.5) return `${s.toFixed(0)} s`;
  const rest = (of: number, unit: string) => (Math.round(s / of) % 60 === 0 ? "" : ` ${Math.round(s / of) % 60} ${unit}`);
  if (s < 600) return `${Math.floor(Math.round(s) / 60)} min${rest(1, "s")}`;
  return s < 7170 ? `${Math.round(s / 60)} min` : `${Math.floor(Math.round(s / 60) / 60)} h${rest(60, "min")}`;
}

/** Local time of day of seconds since 1970. */
export const clock = (at: number): string => moment(at * 1000);

/** Bytes of traffic. */
export function amount(n: number): string {
  if (n < 10 << 10) return `${n} B`;
  if (n < 10 << 20) return `${(n / (1 << 10)).toFixed(1)} KiB`;
  return n < 10 * (1 << 30) ? `${(n / (1 << 20)).toFixed(1)} MiB` : `${(n / (1 << 30)).toFixed(1)} GiB`;
}

/** Local time of day to the millisecond. */
export const exactly = (iso: string): string =>
  new Date(iso).toLocaleTimeString(locale, { hour: "2-digit", minute: "2-digit", second: "2-digit", fractionalSecondDigits: 3 });

/** How requests travel to an instance, in words. */
export const transports: Record<string, string> = {
  plain: "not encrypted",
  tls: "TLS",
  "mutual-tls": "mutual TLS",
  mixed: "partly TLS",
};

/** A number of requests: 950, 12.3k, 4.1M. */
export function count(n: number): string {
  if (n < 10_000) return String(n);
  return n < 1e6 ? `${(n / 1000).toFixed(1)}k` : `${(n / 1e6).toFixed(1)}M`;
}
