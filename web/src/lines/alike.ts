/** Many takes that are treated alike: which steps, the files of a folder for them, and having them prepared. */

import { allOf, everythingIn, type Found } from "../lib/folders";
import { api, got, type Treatment } from "../lib/api";
import { app } from "../lib/app.svelte";
import { linesChanged } from "./lines.svelte";

/** What can be set for many at once; what is "" or null is left as it is. */
export interface Alike {
  match: "" | "original" | "number" | "median" | "gain";
  lufs: number;
  gain_db: number;
  limit: boolean;
  cut_silence: boolean;
  silence_db: number;
  length: "" | "end" | "tempo";
}
export const AS_USUAL: Alike = {
  match: "original",
  lufs: -23,
  gain_db: 0,
  limit: false,
  cut_silence: false,
  silence_db: -60,
  length: "",
};

/** As steps of a treatment. */
export function stepsOf(how: Alike): Treatment {
  const level =
    how.match === "gain"
      ? { match: "", gain_db: how.gain_db }
      : how.match && how.match !== "median"
        ? { match: how.match, ...(how.match === "number" ? { lufs: how.lufs } : {}) }
        : {};
  const silence = how.cut_silence ? { cut_silence: true, silence_db: how.silence_db } : {};
  return {
    ...level,
    ...silence,
    ...(how.limit ? { limit: true } : {}),
    ...(how.length ? { length: how.length } : {}),
  };
}

/** The inverse, of what can be shown. */
export function fromSteps(steps: Record<string, unknown>): Alike {
  const match = (steps.match as Alike["match"]) || ("gain_db" in steps ? "gain" : "");
  return { ...AS_USUAL, ...(steps as Partial<Alike>), match };
}

/** How takes are treated before they are prepared. median: to the median loudness of their originals; back: their last step is
 * undone instead. */
export interface Way {
  steps?: Treatment;
  fit?: boolean;
  median?: boolean;
  back?: boolean;
}

export const wayOf = (how: Alike, fit: boolean): Way => ({
  steps: stepsOf(how),
  fit,
  median: how.match === "median",
});

/** Treat takes alike and prepare them: by their numbers, or those that a mod has of streams. */
export async function treat(
  which: { swaps?: number[]; chosen?: number[] },
  way: Way,
  mod_id = app.game!.mod_id,
): Promise<number[]> {
  const params = { path: { mod_id } };
  const body = { swaps: [], chosen: [], fit: false, back: false, median: false, ...which, ...way };
  const made = await got(api.POST("/api/mods/{mod_id}/alike", { params, body }));
  app.started(made.job);
  await linesChanged();
  return made.swaps;
}

/** Files of a folder that was dropped, with their paths in it. */
const SOUND = /\.(wav|wave|aif|aiff|flac|ogg|oga|opus|mp3)$/i;
const sounds = (found: Found[]) =>
  found
    .filter((f) => SOUND.test(f.path))
    .sort((a, b) => a.path.localeCompare(b.path, undefined, { numeric: true }));

/** All sounds below what was dropped. */
export const dropped = async (data: DataTransfer): Promise<Found[]> => sounds(await everythingIn(data));

/** All sounds that were chosen in a file dialog. */
export const chosenFiles = (files: FileList): Found[] => sounds(allOf(files));
