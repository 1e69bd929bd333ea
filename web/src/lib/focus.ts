/** What can be told as a place of its own, once what stood in it is gone. */
const PLACES = "[role=grid], dialog[open], section, nav, main, header";

/** What has the focus, and all that it stands in. */
let path: HTMLElement[] = [];
/** Whether it can't be used for a while. */
let waits = false;

/**
 * The focus never falls to nothing: when what has it goes, the nearest place around that is still there takes it, and what can't
 * be used for a while gets it back. Who lets it go, by a press on nothing, has let it go.
 */
export function keepFocus(): void {
  addEventListener("focusin", (e) => {
    path = [];
    waits = false;
    for (let at = e.target as HTMLElement | null; at; at = at.parentElement) path.push(at);
  });
  addEventListener("focusout", (e) => {
    if (!e.relatedTarget) setTimeout(keep);
  });
  new MutationObserver(keep).observe(document.body, {
    childList: true,
    subtree: true,
    attributeFilter: ["disabled"],
  });
}

/** Whether nobody is anywhere in particular. */
export function isFree(): boolean {
  const at = document.activeElement;
  return !at || at === document.body || at.matches("main");
}

function keep(): void {
  const held = path[0];
  if (!held) return;
  const there = held.isConnected && held.checkVisibility();
  if (there && held.matches(":disabled")) waits = true;
  if (document.activeElement !== document.body) return;
  if (!there) stand(path.find((around) => around.isConnected && around.matches(PLACES)));
  else if (!waits) path = [];
  else if (!held.matches(":disabled")) held.focus({ preventScroll: true });
}

function stand(place: HTMLElement | null = document.querySelector("main")): void {
  if (!place) return;
  if (!place.hasAttribute("tabindex")) place.tabIndex = -1;
  place.focus({ preventScroll: true });
}
