import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
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
      {ribbons.map((r) => {
        const back = faded(r);
        return (
          <g
            key={r.id}
            role="button"
            tabIndex={0}
            data-test={`ribbon-${r.id}`}
            aria-pressed={r.id === chosen}
            aria-label={`${r.from} to ${r.to}: ${rate(r.sums.rps)}/s, success ${percent(successOf(r.sums))}`}
            style={{ cursor: "pointer", opacity: back ? 0.15 : 1 }}
            onClick={() => onChoose(r.id)}
            onKeyDown={(e) => {
              if (e.key === "Enter" || e.key === " ") {
                e.preventDefault();
                onChoose(r.id);
              }
            }}
          >
            <path d={r.centre} fill="none" stroke="transparent" strokeWidth={calm ? 8 : 18} />
            <path className="whole" d={r.whole} fill={palette.roles.flow} fillOpacity={r.id === chosen ? 1 : 0.8} stroke={r.id === chosen ? palette.text.primary : "none"} />
            {r.failed && <path d={r.failed} fill="url(#failed)" />}
            {r.wide && !calm && <path className="flow" d={r.centre} fill="none" stroke={palette.background.paper} strokeOpacity={0.8} strokeWidth={1.5} strokeDasharray="4 10" />}
            {!calm && (
              <text x={r.label.x} y={r.label.y - 6} textAnchor="middle" fontSize={11.5} fontWeight={600} fill={palette.text.primary} stroke={palette.background.default} strokeWidth={3} paintOrder="stroke">
                {r.sums.requests > 0 ? `${rate(r.sums.rps)}/s` : ""}
              </text>
            )}
          </g>
        );
      })}
    </Box>
  );
}
