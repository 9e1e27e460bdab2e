import Box from "@mui/material/Box";
import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import type { Fill } from "../kit/versions";

export interface Share {
  /** Version, or service/version. */
  target: string;
  fill: Fill;
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
const apart = 16; // pixels between handles that stand at one place

export const weightText = (w: number): string => String(w / 1000);

/** Where each target ends. */
function endsOf(weights: number[]): number[] {
  let sum = 0;
  return weights.map((w) => (sum += w));
}

/**
 * Moves the end of target i. Ends that are in its way go with it, so that each end can
 * reach every place.
 */
export function moveEnd(weights: number[], i: number, place: number): number[] {
  const to = Math.min(whole, Math.max(0, Math.round(place / step) * step));
  const ends = endsOf(weights).map((end, j) => (j === weights.length - 1 ? whole : j === i ? to : j < i ? Math.min(end, to) : Math.max(end, to)));
  return ends.map((end, j) => end - (ends[j - 1] ?? 0));
}

/** Sets the weight of target i; the others share the rest as they did before. */
export function withWeight(weights: number[], i: number, weight: number): number[] {
  const mine = Math.min(whole, Math.max(0, Math.round(weight)));
  const others = weights.reduce((sum, w, j) => (j === i ? sum : sum + w), 0);
  const rest = whole - mine;
  const last = weights.findLastIndex((w, j) => j !== i && (others === 0 || w > 0));
  let left = rest;
  const next = weights.map((w, j) => {
    if (j === i || j === last) return 0;
    const part = others === 0 ? 0 : Math.floor((w * rest) / others / 10) * 10;
    left -= part;
    return part;
  });
  next[i] = last < 0 ? whole : mine;
  if (last >= 0) next[last] = left;
  return next;
}

/** Weights as one bar. A handle between two targets moves weight from one to the other. */
export function WeightBar({ shares, onChange, height = 26 }: Props) {
  const bar = useRef<HTMLDivElement>(null);
  const weights = shares.map((s) => s.weight);
  const ends = endsOf(weights);
  const moveTo = (i: number, place: number) => onChange?.(moveEnd(weights, i, place));
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
  /** How far a handle stands beside its place, because others stand there too. */
  const beside = (i: number): number => {
    const here = ends.slice(0, -1).flatMap((end, j) => (end === ends[i] ? [j] : []));
    return (here.indexOf(i) - (here.length - 1) / 2) * apart;
  };
  return (
    <Box ref={bar} sx={{ position: "relative", height, display: "flex", borderRadius: 1, bgcolor: "action.hover", touchAction: "none" }}>
      {shares.map((s, i) => (
        <Box
          key={s.target}
          sx={{
            width: `${(100 * s.weight) / whole}%`, ...s.fill, overflow: "hidden", whiteSpace: "nowrap",
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
              position: "absolute", left: `calc(${(100 * (ends[i] ?? 0)) / whole}% - 7px + ${beside(i)}px)`, top: -4, width: 14, height: height + 8, cursor: "ew-resize", touchAction: "none",
              bgcolor: "background.paper", border: 2, borderColor: "text.primary", borderRadius: 1, boxShadow: 1,
              "&::after": { content: '""', position: "absolute", left: 4, top: 8, bottom: 8, width: 2, bgcolor: "text.secondary" },
              "&:focus-visible": { outline: 3, outlineStyle: "solid", outlineColor: "warning.main" },
            }}
          />
        ))}
    </Box>
  );
}
