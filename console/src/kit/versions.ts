import { useTheme } from "@mui/material/styles";
import { useMemo } from "react";
import { useMesh } from "../api/live";

/** How many looks there are; more versions than that share them. */
const looks = 6;

/** Where a version would like to be: v1 first, v2 second; another name by its letters. */
function wish(name: string): number {
  const number = /(\d+)\D*$/.exec(name)?.[1];
  if (number) return (Number(number) + looks - 1) % looks;
  return [...name].reduce((sum, c) => (sum * 31 + c.charCodeAt(0)) % 9973, 7) % looks;
}

/**
 * Which look each version of a service has: the one that its name wishes for or, where an
 * earlier name has that, the next free one. It does not depend on the order of the names.
 */
export function looksOf(names: string[]): Map<string, number> {
  const got = new Map<string, number>();
  for (const name of [...new Set(names)].sort()) {
    const taken = new Set(got.values());
    let look = wish(name);
    for (let i = 0; taken.has(look) && i < looks; i++) look = (look + 1) % looks;
    got.set(name, look);
  }
  return got;
}

/** CSS that fills an area as a version looks: its colour below its pattern. */
export interface Fill {
  backgroundColor: string;
  backgroundImage: string;
  backgroundSize?: string;
}

function fillOf(look: number, colour: string, gap: string): Fill {
  const stripes = (angle: number, wide: number, each: number) => `repeating-linear-gradient(${angle}deg, ${gap} 0 ${wide}px, transparent ${wide}px ${each}px)`;
  const patterns = ["none", stripes(45, 3, 8), `radial-gradient(${gap} 1.4px, transparent 1.6px)`, stripes(90, 2, 7), stripes(-45, 2, 6), stripes(0, 2, 6)];
  return { backgroundColor: colour, backgroundImage: patterns[look] ?? "none", ...(look === 2 ? { backgroundSize: "6px 6px" } : {}) };
}

const none: string[] = [];

/**
 * The fill of a version of a service, the same on every page: colour and pattern follow
 * its name. A target without a version is filled as requests that flow.
 */
export function useVersionFill(service: string): (version: string | undefined) => Fill {
  const { palette } = useTheme();
  const names = useMesh((mesh) => mesh?.services.find((s) => s.name === service)?.versions.map((v) => v.name) ?? none);
  return useMemo(() => {
    const known = looksOf(names);
    return (version) => {
      if (!version) return { backgroundColor: palette.roles.flow, backgroundImage: "none" };
      const look = known.get(version) ?? wish(version);
      return fillOf(look, palette.roles.lanes[look] ?? palette.roles.flow, palette.roles.gap);
    };
  }, [names, palette]);
}
