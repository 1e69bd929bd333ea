/**
 * For a menu that opens over the page, beside the button that opens it: Escape closes it and gives the focus back to that button;
 * so does a press anywhere else, and going to another place, without moving the focus.
 */
export function closing(menu: HTMLElement, close: () => void) {
  const around = menu.parentElement;
  const opener = around?.querySelector<HTMLElement>("[aria-haspopup]");
  const key = (event: KeyboardEvent) => {
    if (event.key !== "Escape") return;
    event.preventDefault();
    event.stopPropagation();
    close();
    opener?.focus();
  };
  const press = (event: PointerEvent) => {
    if (!around?.contains(event.target as Node)) close();
  };
  addEventListener("keydown", key, true);
  addEventListener("pointerdown", press, true);
  addEventListener("hashchange", close);
  return {
    destroy() {
      removeEventListener("keydown", key, true);
      removeEventListener("pointerdown", press, true);
      removeEventListener("hashchange", close);
    },
  };
}
