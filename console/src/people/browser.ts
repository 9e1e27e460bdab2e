/** Browsers by a word of what they call themselves. A word of a later one is also in what an earlier one says. */
const browsers: [string, RegExp][] = [
  ["Edge", /\bEdg\w*\/(\d+)/],
  ["Opera", /\bOPR\/(\d+)/],
  ["Firefox", /\b(?:Firefox|FxiOS)\/(\d+)/],
  ["Chrome", /(?:Chrome|CriOS)\/(\d+)/],
  ["Safari", /\bVersion\/(\d+).* Safari\//],
];
const systems: [string, RegExp][] = [
  ["Android", /Android/],
  ["iOS", /iPhone|iPad/],
  ["Windows", /Windows/],
  ["macOS", /Mac OS X/],
  ["Linux", /Linux/],
];

/** A browser in a few words, such as Firefox 128 on Linux, from what it calls itself (User-Agent). What is none of those known is as it is. */
export function browserOf(program: string): string {
  const [name, shape] = browsers.find(([, shape]) => shape.test(program)) ?? [];
  if (!name || !shape) return program;
  const system = systems.find(([, shape]) => shape.test(program))?.[0];
  return `${name} ${shape.exec(program)?.[1]}${system ? ` on ${system}` : ""}`;
}
