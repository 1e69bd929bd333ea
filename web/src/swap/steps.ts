/** What is asked for in the steps of a treatment, and how it is read. */

export const BY_THE_GAME = "";
/** How a loop is played. */
export const PLAYED: [string, string][] = [
  [BY_THE_GAME, "repeated by the game"],
  ["times", "played out so often"],
  ["length", "played out until"],
];
/** What comes behind a loop that is played out. */
export const ENDS: [string, string][] = [
  ["fade", "it fades out"],
  ["rest", "the file goes on"],
];
export const LENGTHS: [string, string][] = [
  ["", "as it comes"],
  ["end", "its end cut or filled"],
  ["tempo", "by its tempo"],
];
export const LEVELS: [string, string][] = [
  ["", "by a gain"],
  ["original", "as loud as the original"],
  ["number", "to a loudness"],
];
/** What an encoder that has a choice aims at. */
export const BITS: [string, string][] = [
  ["", "as many as the original"],
  ["number", "so many a second"],
  ["place", "what fits its place"],
];
export const EDGES: [string, string][] = [
  ["", "leave it"],
  ["pad", "by silence before the head"],
  ["trim", "by cutting the head"],
];

/** "1:02.5", "62.5" or "1:00:02" as seconds; NaN for anything else. */
export function readClock(text: string): number {
  const parts = text.replace(/\s/g, "").replace(",", ".").split(":");
  if (!parts[0] || parts.length > 3 || parts.some((p) => !/^\d+(\.\d*)?$/.test(p))) return NaN;
  return parts.reduce((sum, part) => sum * 60 + Number(part), 0);
}
