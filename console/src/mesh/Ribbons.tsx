import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { memo } from "react";
import { percent, rate } from "../kit/format";
import { successOf } from "./flow";
import type { Ribbon } from "./layout";

interface Props {
  ribbons: Ribbon[];
  width: number;
  height: number;
  chosen: string | null;
  /** Which ribbons are faded. */
  faded: (r: Ribbon) => boolean;
  onChoose: (id: string) => void;
}

/** Above this number ribbons are not animated and have no labels, which would cover each other. */
const many = 80;

export function Ribbons({ ribbons, width, height, chosen, faded, onChoose }: Props) {
  const { palette } = useTheme();
  const calm = ribbons.length > many;
  return (
    <Box
      component="svg"
      width={width}
      height={height}
      sx={{
        position: "absolute", inset: 0, overflow: "visible",
        "& .flow": { animation: "flow 1.6s linear infinite" },
        "@keyframes flow": { to: { strokeDashoffset: -28 } },
        "@media (prefers-reduced-motion: reduce)": { "& .flow": { animation: "none" } },
        "& g:focus-visible": { outline: "none" },
        "& g:focus-visible .whole, & g:hover .whole": { fillOpacity: 1 },
      }}
    >
      <defs>
        <pattern id="failed" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill={palette.error.main} />
          <rect width="2" height="6" fill={palette.background.default} />
        </pattern>
      </defs>
      {ribbons.map((r) => <Way key={r.id} ribbon={r} isChosen={r.id === chosen} isFaded={faded(r)} isCalm={calm} onChoose={onChoose} />)}
    </Box>
  );
}

interface WayProps {
  ribbon: Ribbon;
  isChosen: boolean;
  isFaded: boolean;
  /** Without movement and label. */
  isCalm: boolean;
  onChoose: (id: string) => void;
}

/** One ribbon. It is drawn again only when what is seen of it changes: hundreds come anew every second. */
const Way = memo(
  function Way({ ribbon: r, isChosen, isFaded, isCalm, onChoose }: WayProps) {
    const { palette } = useTheme();
    return (
      <g
        role="button" tabIndex={0} data-test={`ribbon-${r.id}`} aria-pressed={isChosen}
        aria-label={`${r.from} to ${r.to}: ${figures(r)}`} style={{ cursor: "pointer", opacity: isFaded ? 0.15 : 1 }}
        onClick={() => onChoose(r.id)}
        onKeyDown={(e) => {
          if (e.key === "Enter" || e.key === " ") {
            e.preventDefault();
            onChoose(r.id);
          }
        }}
      >
        <path d={r.centre} fill="none" stroke="transparent" strokeWidth={isCalm ? 8 : 18} />
        <path className="whole" d={r.whole} fill={palette.roles.flow} fillOpacity={isChosen ? 1 : 0.8} stroke={isChosen ? palette.text.primary : "none"} />
        {r.failed && <path d={r.failed} fill="url(#failed)" />}
        {r.wide && !isCalm && <path className="flow" d={r.centre} fill="none" stroke={palette.background.paper} strokeOpacity={0.8} strokeWidth={1.5} strokeDasharray="4 10" />}
        {!isCalm && (
          <text x={r.label.x} y={r.label.y - 6} textAnchor="middle" fontSize={11.5} fontWeight={600} fill={palette.text.primary} stroke={palette.background.default} strokeWidth={3} paintOrder="stroke">
            {r.sums.requests > 0 ? `${rate(r.sums.rps)}/s` : ""}
          </text>
        )}
      </g>
    );
  },
  (a, b) =>
    a.isChosen === b.isChosen && a.isFaded === b.isFaded && a.isCalm === b.isCalm && a.onChoose === b.onChoose && a.ribbon.whole === b.ribbon.whole &&
    a.ribbon.failed === b.ribbon.failed && a.ribbon.centre === b.ribbon.centre && a.ribbon.wide === b.ribbon.wide && figures(a.ribbon) === figures(b.ribbon),
);

/** What is said of a ribbon. */
const figures = (r: Ribbon): string => `${rate(r.sums.rps)}/s, success ${percent(successOf(r.sums))}`;
