/** The layout that is worked on at the bench: which one, its text, and what is kept of it. */

import { api, attempted, every, got, type LayoutLine, type LayoutText, type ProblemText } from "../lib/api";
import { app } from "../lib/app.svelte";

/** A draft is kept so long after its last change, in ms. */
const PAUSE = 500;

/** How a layout is named in the address and in lists. */
export const nameOf = (layout: { id: number; slug: string }) => (layout.id ? String(layout.id) : layout.slug);

export class Draft {
  lines = $state<LayoutLine[]>([]);
  current = $state<LayoutText | null>(null);
  /** The text that the editor begins with, and what became of it. */
  shown = $state("");
  text = $state("");
  kept = $state(true);
  problem = $state<ProblemText | null>(null);
  /** What the address calls it. */
  name = $state("");

  /** Made while a component is. */
  constructor(
    private game_id: number,
    private path: string,
  ) {
    $effect(() => {
      const [wanted, layout] = [this.text, this.current];
      if (!layout?.id || this.kept) return;
      const timer = setTimeout(() => void this.keep(layout.id, wanted), PAUSE);
      return () => clearTimeout(timer);
    });
  }

  /** Whether it is the user's own, and can be changed. */
  get own(): boolean {
    return !!this.current?.id;
  }

  attempt = <T>(work: () => Promise<T>) => attempted(work, (problem) => (this.problem = problem));

  async loadLines(): Promise<void> {
    this.lines = await every((query) => got(api.GET("/api/layouts", { params: { query } })));
  }

  /** The first of these that there is: what the address names, what recognises the file, what was looked at last. */
  async begin(named: string, recognised: string): Promise<void> {
    await this.loadLines();
    const wanted = [named, recognised, localStorage.getItem(this.place) ?? ""];
    const line = wanted
      .map((name) => name && this.lines.find((l) => nameOf(l) === name || l.slug === name))
      .find(Boolean);
    if (line) await this.choose(line);
  }

  choose = (line: LayoutLine) =>
    this.attempt(async () => {
      const { id, slug } = line;
      const text = id
        ? await got(api.GET("/api/layouts/{layout_id}", { params: { path: { layout_id: id } } }))
        : await got(api.GET("/api/layouts/shipped/{slug}", { params: { path: { slug } } }));
      this.take(text, nameOf(line));
    });

  make = (body: { text: string; name: string }) => this.taken(() => got(api.POST("/api/layouts", { body })));

  /** A layout that recognises this file by its first four bytes, and guesses the rest. */
  guess = () => {
    const body = { path: this.path, text: "", at: 0, length: 0 };
    const params = { path: { game_id: this.game_id } };
    return this.taken(() => got(api.POST("/api/games/{game_id}/bench/begin", { params, body })));
  };

  back = (version_id: number) =>
    this.taken(() => got(api.POST("/api/versions/{version_id}/back", { params: { path: { version_id } } })));

  change = (next: string) => {
    this.text = next;
    this.kept = false;
  };

  save = () =>
    this.attempt(async () => {
      const params = { path: { layout_id: this.current!.id } };
      await got(api.PUT("/api/layouts/{layout_id}", { params, body: { text: this.text, name: "" } }));
      const out = await got(api.POST("/api/layouts/{layout_id}/versions", { params }));
      this.current = { ...out, text: this.current!.text };
      this.kept = true;
      await this.loadLines();
      if (/^describes: *game/m.test(this.text)) app.say("Saved. The game is read by these load rules now.");
      else
        app.say("Saved. The next survey recognises files by it.", {
          label: "Survey again",
          run: this.surveyAgain,
        });
    });

  remove = () =>
    this.attempt(async () => {
      const gone = this.current!;
      await got(api.DELETE("/api/layouts/{layout_id}", { params: { path: { layout_id: gone.id } } }));
      this.current = null;
      this.text = this.shown = this.name = "";
      await this.loadLines();
      app.say(`The layout ${gone.name} was removed.`, {
        label: "Undo",
        run: () => void this.make({ text: gone.text, name: gone.name }),
      });
    });

  private surveyAgain = async () => {
    const params = { path: { game_id: this.game_id } };
    await app.attempt(api.POST("/api/games/{game_id}/survey", { params }));
    app.wake();
  };

  private taken = (ask: () => Promise<LayoutText>) =>
    this.attempt(async () => {
      const layout = await ask();
      this.take(layout, String(layout.id));
      await this.loadLines();
    });

  private take(layout: LayoutText, name: string): void {
    this.current = layout;
    this.name = name;
    this.shown = this.text = layout.text;
    this.kept = true;
    if (layout.id) localStorage.setItem(this.place, String(layout.id));
  }

  private keep = (layout_id: number, text: string) =>
    this.attempt(async () => {
      const params = { path: { layout_id } };
      const out = await got(api.PUT("/api/layouts/{layout_id}", { params, body: { text, name: "" } }));
      if (this.current?.id !== out.id || this.text !== text) return;
      this.current = { ...out, text: this.current.text };
      this.kept = true;
    });

  private get place(): string {
    return `zubret-bench ${this.path}`;
  }
}
