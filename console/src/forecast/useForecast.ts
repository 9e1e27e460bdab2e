import { useEffect, useRef, useState } from "react";
import { api, take, words, type Forecast, type ForecastRequest } from "../api/client";

interface State {
  value: Forecast | null;
  /** The request that value answers, as JSON. */
  of: string;
  error: string;
  busy: boolean;
}

const none: State = { value: null, of: "", error: "", busy: false };

/** Computes one forecast at a time; a newer one cancels the one before. */
export function useForecast() {
  const [state, setState] = useState(none);
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const start = (body: ForecastRequest) => {
    stop.current?.abort();
    const mine = new AbortController();
    stop.current = mine;
    setState((old) => ({ ...old, error: "", busy: true }));
    take(api.POST("/api/v1/forecasts", { body, signal: mine.signal })).then(
      (value) => { if (!mine.signal.aborted) setState({ value, of: JSON.stringify(body), error: "", busy: false }); },
      (e: unknown) => { if (!mine.signal.aborted) setState({ ...none, error: words(e) }); },
    );
  };
  const clear = () => {
    stop.current?.abort();
    setState(none);
  };
  return { ...state, start, clear };
}
