/** Which row of a list is the current one, and which are chosen with it. */

export interface Source<T> {
  total: number;
  loading: boolean;
  at(index: number): T | undefined;
  need(index: number): Promise<T | undefined>;
  show(first: number, last: number): void;
}

/** A stretch up to this long is chosen by the rows themselves, where they are all there. */
const AT_HAND = 200;

export class Choice<T> {
  /** The place of the current row; -1 for none. */
  at = $state(-1);
  /** The numbers of all that are chosen; they stay so in another order. */
  chosen = $state.raw<ReadonlySet<number>>(new Set());
  /** Bring a row into view; the list that shows the rows sets it. */
  reveal: (index: number) => void = () => {};
  private anchor = -1;
  private moves = 0;

  constructor(
    readonly rows: Source<T>,
    readonly id: (row: T) => number,
    /** The numbers of the rows from one place to another. */
    private numbers: (first: number, last: number) => Promise<number[]>,
    /** A row has become the current one, by a press or a key. */
    private picked: (row: T, index: number) => void,
  ) {}

  /** Whether somebody has moved since: an answer that comes late does not undo that. */
  since(): () => boolean {
    const before = this.moves;
    return () => this.moves !== before;
  }

  /** To a row: it alone is chosen then; with `more`, all from where one began to it. */
  async go(index: number, more = false): Promise<void> {
    if (index < 0 || index >= this.rows.total) return;
    const move = ++this.moves;
    if (!more) this.anchor = index;
    else if (this.anchor < 0) this.anchor = this.at < 0 ? index : this.at;
    this.at = index;
    this.reveal(index);
    const found = await this.rows.need(index);
    if (!found || move !== this.moves) return;
    if (more) await this.span(this.anchor, index, move);
    else this.chosen = new Set([this.id(found)]);
    if (move === this.moves) this.picked(found, index);
  }

  /** Choose one more row, or let it go. */
  async toggle(index: number): Promise<void> {
    const move = ++this.moves;
    const found = await this.rows.need(index);
    if (!found || move !== this.moves) return;
    const next = new Set(this.chosen);
    if (!next.delete(this.id(found))) next.add(this.id(found));
    this.chosen = next;
    this.at = this.anchor = index;
    this.picked(found, index);
  }

  async everything(): Promise<void> {
    await this.span(0, this.rows.total - 1, ++this.moves);
  }

  /** Only the current row. */
  alone(): void {
    const current = this.rows.at(this.at);
    this.chosen = new Set(current ? [this.id(current)] : []);
    this.anchor = this.at;
  }

  /** One that an address names, wherever it stands. */
  only(number: number): void {
    this.chosen = new Set([number]);
  }

  private async span(from: number, to: number, move: number): Promise<void> {
    const [first, last] = from < to ? [from, to] : [to, from];
    const near = Array.from({ length: Math.min(last - first + 1, AT_HAND) }, (_, n) =>
      this.rows.at(first + n),
    );
    const whole = last - first < AT_HAND && near.every((row) => row !== undefined);
    const all = whole ? near.map((row) => this.id(row!)) : await this.numbers(first, last);
    if (move === this.moves) this.chosen = new Set(all);
  }
}
