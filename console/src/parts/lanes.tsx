import { useTheme } from "@mui/material/styles";

/**
 * The looks of versions. Each has a colour and a pattern of its own, so that
 * colour is never all that tells two apart. The colours are those of M. Okabe
 * and K. Ito, "Color Universal Design", 2008, lightened for the dark theme.
 */
const light = ["#0072b2", "#c77800", "#00805c", "#b0568b", "#7a6a00", "#4d5a66"];
const dark = ["#56a8e0", "#f0a83c", "#3cc79a", "#e393c2", "#d6c84a", "#a9b6c1"];

export function useLaneColour(): (index: number) => string {
  const theme = useTheme();
  const colours = theme.palette.mode === "dark" ? dark : light;
  return (index) => colours[index % colours.length] ?? "#888";
}

const stripes = [
  "none",
  "repeating-linear-gradient(45deg, rgba(255,255,255,.38) 0 3px, transparent 3px 8px)",
  "radial-gradient(rgba(255,255,255,.55) 1.4px, transparent 1.6px)",
  "repeating-linear-gradient(90deg, rgba(255,255,255,.38) 0 2px, transparent 2px 7px)",
  "repeating-linear-gradient(-45deg, rgba(255,255,255,.38) 0 2px, transparent 2px 6px)",
  "repeating-linear-gradient(0deg, rgba(255,255,255,.38) 0 2px, transparent 2px 6px)",
];

/** CSS for the fill of a lane: its colour below its pattern. */
export function laneFill(colour: string, index: number) {
  const image = stripes[index % stripes.length] ?? "none";
  return { backgroundColor: colour, backgroundImage: image, ...(index % stripes.length === 2 ? { backgroundSize: "6px 6px" } : {}) };
}

/** The position of a version among those of its service decides its looks. */
export function laneIndex(names: string[], name: string): number {
  return Math.max(0, names.indexOf(name));
}
