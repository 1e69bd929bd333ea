/** The columns of a list: which are shown, how wide they are. What a user changes is kept in this browser. */

export interface Column<T> {
  key: string;
  label: string;
  side?: "left" | "right";
  /** Its width in px; with `grow` the least one, and how much of what is left it takes. */
  width: number;
  grow?: number;
  /** Whether the list can be sorted by it, and by which name; largest first where `down`. */
  sort?: string;
  down?: boolean;
  text?: (row: T) => string;
  title?: (row: T) => string;
  quiet?: (row: T) => boolean;
  /** Digits that stand under each other. */
  num?: boolean;
  /** A column without which a row is nothing: it can't be hidden. */
  always?: boolean;
  /** Hidden until somebody wants it. */
  spare?: boolean;
}

interface Changed {
  shown: Record<string, boolean>;
  widths: Record<string, number>;
}

export class Columns<T> {
  changed = $state<Changed>({ shown: {}, widths: {} });
  readonly shown: Column<T>[];
  readonly template: string;
  readonly least: number;

  constructor(
    readonly name: string,
    readonly all: () => Column<T>[],
  ) {
    try {
      this.changed = { shown: {}, widths: {}, ...JSON.parse(localStorage.getItem(this.place) ?? "{}") };
    } catch {
      // what is kept can't be read: the columns are as they come
    }
    this.shown = $derived(all().filter((c) => c.always || (this.changed.shown[c.key] ?? !c.spare)));
    const width = (c: Column<T>) => this.changed.widths[c.key];
    this.template = $derived(
      this.shown
        .map((c) => {
          const fixed = width(c);
          return fixed ? `${fixed}px` : c.grow ? `minmax(${c.width}px, ${c.grow}fr)` : `${c.width}px`;
        })
        .join(" "),
    );
    this.least = $derived(this.shown.reduce((sum, c) => sum + (width(c) ?? c.width) + 10, 16));
  }

  show(column: Column<T>, on: boolean): void {
    this.changed.shown[column.key] = on;
    this.keep();
  }

  /** Give a column a width in px; null: as it comes. */
  size(column: Column<T>, width: number | null): void {
    if (width === null) delete this.changed.widths[column.key];
    else this.changed.widths[column.key] = Math.round(Math.min(800, Math.max(24, width)));
    this.keep();
  }

  asTheyCome(): void {
    this.changed = { shown: {}, widths: {} };
    this.keep();
  }

  private get place(): string {
    return `zubret columns ${this.name}`;
  }
  private keep(): void {
    localStorage.setItem(this.place, JSON.stringify(this.changed));
  }
}
