/** Files that the mod puts into archives. */

import { api, every, got } from "../lib/api";
import { app } from "../lib/app.svelte";
import { cache, ofGame } from "../lib/cache";

export const filesPut = (game: number, mod_id: number) => ({
  queryKey: ofGame(game, "files put"),
  queryFn: () =>
    every((query) => got(api.GET("/api/mods/{mod_id}/files", { params: { path: { mod_id }, query } }))),
});

/** One was put in or taken out: the route tells of it, too. */
export async function filesPutChanged(): Promise<void> {
  void app.refreshRoute();
  await cache.invalidateQueries({ queryKey: ofGame(app.gameId, "files put") });
}
