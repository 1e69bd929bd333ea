/**
 * How far a list is scrolled, kept with this place of the browser's history: after a reload, or back, it stands there again until
 * somebody does something.
 */
const REST = 150;
/** What counts as that. */
const DEEDS = ["keydown", "pointerdown", "wheel"];

export class Place {
  private node: HTMLElement | undefined;
  private still: boolean;

  constructor(private label: string) {
    this.still = this.kept !== undefined;
  }

  private get kept(): number | undefined {
    return (history.state as Record<string, number> | null)?.[`scroll of ${this.label}`];
  }

  /** To where the list stood; false if it is somebody else's to say. */
  stand(): boolean {
    if (this.still) this.node?.scrollTo({ top: this.kept });
    return this.still;
  }

  /** For the element that scrolls. */
  attach = (node: HTMLElement) => {
    this.node = node;
    let timer = 0;
    const scrolled = () => {
      clearTimeout(timer);
      if (this.still) return;
      timer = window.setTimeout(() => {
        const kept = { ...(history.state as object | null), [`scroll of ${this.label}`]: node.scrollTop };
        history.replaceState(kept, "");
      }, REST);
    };
    const moved = () => (this.still = false);
    node.addEventListener("scroll", scrolled);
    for (const deed of DEEDS) addEventListener(deed, moved, { capture: true, passive: true });
    return {
      destroy: () => {
        clearTimeout(timer);
        for (const deed of DEEDS) removeEventListener(deed, moved, { capture: true });
      },
    };
  };
}
