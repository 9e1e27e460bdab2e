import { useEffect, useRef, useState } from "react";
import { forecast, type Forecast, type ForecastRequest } from "../api/client";

/** Computes one forecast at a time; a newer one cancels the one before. */
export function useForecast() {
  const [state, setState] = useState<{ value: Forecast | null; error: string; busy: boolean }>({ value: null, error: "", busy: false });
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const start = (body: ForecastRequest) => {
    stop.current?.abort();
    const mine = new AbortController();
    stop.current = mine;
    setState((old) => ({ ...old, error: "", busy: true }));
    forecast(body, AbortSignal.any([mine.signal, AbortSignal.timeout(70_000)])).then(
      (value) => { if (!mine.signal.aborted) setState({ value, error: "", busy: false }); },
      (e: unknown) => { if (!mine.signal.aborted) setState({ value: null, error: e instanceof Error ? e.message : String(e), busy: false }); },
    );
  };
  const clear = () => {
    stop.current?.abort();
    setState({ value: null, error: "", busy: false });
  };
  return { ...state, start, clear };
}
