/** Where something was just moved to, while the server is still being told: the next move begins from there. */
export class Ahead<T> {
  value = $state.raw<T | null>(null);
  private open = 0;

  async to(value: T, send: () => Promise<void>): Promise<void> {
    this.value = value;
    this.open++;
    try {
      await send();
    } finally {
      if (!--this.open) this.value = null;
    }
  }
}
