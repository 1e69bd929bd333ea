/** A screen's question: answered after a pause in typing, and held by the address. Both are set up while a component is made. */

import { untrack } from "svelte";
import { app } from "./app.svelte";

/** While somebody types, an answer waits so long, in ms. */
const PAUSE = 90;

/** Have a question answered when it changes, the first one at once. What was found stays on screen until then. */
export function whenAsked(asks: () => string, answer: (asked: string) => void): void {
  let before = false;
  $effect(() => {
    const asked = asks();
    const timer = setTimeout(
      () => {
        before = true;
        untrack(() => answer(asked));
      },
      before ? PAUSE : 0,
    );
    return () => clearTimeout(timer);
  });
}

/**
 * The address follows a question and what is chosen (null: not known yet), and the question an address that somebody else has
 * set. One that asks for nothing leads to the screen as it is.
 */
export function inAddress(
  search: () => string,
  take: (search: string) => void,
  chosen: () => string | null = () => app.detail,
): void {
  $effect(() => {
    const [text, named] = [search(), chosen()];
    untrack(() => named !== null && app.put(named, text));
  });
  $effect(() => {
    const wanted = app.search;
    untrack(() => {
      const here = search();
      if (!wanted) app.put(app.detail || (chosen() ?? ""), here);
      else if (wanted !== here) take(wanted);
    });
  });
}
