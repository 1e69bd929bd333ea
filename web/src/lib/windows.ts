/** Windows of one browser: what is changed in one is asked for anew in the others, as far as it is in view. */

import { tellChanges } from "./api";
import { app } from "./app.svelte";
import { cache } from "./cache";

/** What follows each other within so long is asked for once, in ms. */
const PAUSE = 150;

export function keepTogether(): void {
  const channel = new BroadcastChannel("zubret");
  let timer = 0;
  tellChanges(() => channel.postMessage("changed"));
  channel.onmessage = () => {
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      void cache.invalidateQueries();
      void app.refreshRoute();
    }, PAUSE);
  };
}
