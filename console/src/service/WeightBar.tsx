import Box from "@mui/material/Box";
import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import { laneFill, useLaneColour } from "../parts/lanes";

export interface Share {
  /** Version, or service/version. */
  target: string;
  /** Which colour and pattern. */
  lane: number;
  /** In thousandths of a percent; all of a bar add to 100,000. */
  weight: number;
}

interface Props {
  shares: Share[];
  /** Called with new weights, which add to 100,000. Without it the bar cannot be changed. */
  onChange?: (weights: number[]) => void;
  height?: number;
}

const whole = 100_000;
const step = 1000;

export const weightText = (w: number): string => String(w / 1000);

/** Weights as one bar. A handle between two targets moves weight from one to the other. */
export function WeightBar({ shares, onChange, height = 26 }: Props) {
  const colour = useLaneColour();
  const bar = useRef<HTMLDivElement>(null);
  const ends: number[] = [];
  shares.reduce((sum, s) => {
    ends.push(sum + s.weight);
    return sum + s.weight;
  }, 0);

  /** Moves the end of target i; its neighbour takes or gives the difference. */
  const moveTo = (i: number, place: number) => {
    const from = ends[i - 1] ?? 0;
    const to = ends[i + 1] ?? whole;
    const end = Math.min(to, Math.max(from, Math.round(place / step) * step));
    onChange?.(shares.map((s, j) => (j === i ? end - from : j === i + 1 ? to - end : s.weight)));
  };
  const drag = (i: number) => (e: PointerEvent<HTMLElement>) => {
    const box = bar.current?.getBoundingClientRect();
    if (box && e.currentTarget.hasPointerCapture(e.pointerId)) moveTo(i, ((e.clientX - box.left) / box.width) * whole);
  };
  const key = (i: number) => (e: KeyboardEvent) => {
    const by = e.shiftKey ? 10 * step : step;
    const end = ends[i] ?? 0;
    const place = { ArrowRight: end + by, ArrowUp: end + by, ArrowLeft: end - by, ArrowDown: end - by, Home: 0, End: whole }[e.key];
    if (place === undefined) return;
    e.preventDefault();
    moveTo(i, place);
  };
  return (
    <Box ref={bar} sx={{ position: "relative", height, display: "flex", borderRadius: 1, bgcolor: "action.hover", touchAction: "none" }}>
      {shares.map((s, i) => (
        <Box
          key={s.target}
          sx={{
            width: `${(100 * s.weight) / whole}%`, ...laneFill(colour(s.lane), s.lane), overflow: "hidden", whiteSpace: "nowrap",
            borderTopLeftRadius: i === 0 ? 6 : 0, borderBottomLeftRadius: i === 0 ? 6 : 0,
            borderTopRightRadius: i === shares.length - 1 ? 6 : 0, borderBottomRightRadius: i === shares.length - 1 ? 6 : 0,
          }}
        />
      ))}
      {onChange &&
        shares.slice(0, -1).map((s, i) => (
          <Box
            key={s.target}
            role="slider"
            tabIndex={0}
            data-test={`handle-${i}`}
            aria-label={`${s.target} against ${shares[i + 1]?.target ?? ""}`}
            aria-valuemin={0}
            aria-valuemax={100}
            aria-valuenow={s.weight / 1000}
            aria-valuetext={shares.map((x) => `${x.target} ${weightText(x.weight)}%`).join(", ")}
            onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
            onPointerMove={drag(i)}
            onKeyDown={key(i)}
            sx={{
              position: "absolute", left: `calc(${(100 * (ends[i] ?? 0)) / whole}% - 7px)`, top: -4, width: 14, height: height + 8, cursor: "ew-resize", touchAction: "none",
              bgcolor: "background.paper", border: 2, borderColor: "text.primary", borderRadius: 1, boxShadow: 1,
              "&::after": { content: '""', position: "absolute", left: 4, top: 8, bottom: 8, width: 2, bgcolor: "text.secondary" },
              "&:focus-visible": { outline: 3, outlineStyle: "solid", outlineColor: "warning.main" },
            }}
          />
        ))}
    </Box>
  );
}
