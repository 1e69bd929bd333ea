/** Files on their way to their lines: they go on being sent, and are prepared, while one looks at something else. */

import { api, upload, type Matches, type Swap } from "../lib/api";
import { app } from "../lib/app.svelte";
import { count } from "../lib/format";
import { treat, type Way } from "./alike";
import { linesChanged } from "./lines.svelte";

/** Files that are sent at the same time, and how many takes the first job prepares: they are heard while others are sent. Each next
 * one takes twice as many, so that there are few to be cancelled. */
const AT_ONCE = 3;
const FIRST_JOB = 20;

/** A page that is left stops what it sends: the browser asks before. */
const ask = (event: BeforeUnloadEvent) => event.preventDefault();

class Sending {
  /** Files to be sent; 0 while none are. */
  total = $state(0);
  done = $state(0);
  private stopped = false;

  stop(): void {
    this.stopped = true;
  }

  /** Send files for their streams and have them prepared while others are sent; what was made can be undone. */
  async send(found: Matches["found"], files: Map<string, File>, way: Way): Promise<void> {
    const mod = app.game!.mod_id;
    const waiting = [...found];
    const swaps: number[] = [];
    const failed: string[] = [];
    let ready: number[] = [];
    let enough = FIRST_JOB;
    [this.total, this.done, this.stopped] = [found.length, 0, false];
    addEventListener("beforeunload", ask);

    const prepare = async (least: number) => {
      if (ready.length < least) return;
      const some = ready;
      ready = [];
      enough *= 2;
      await app.attempted(treat({ swaps: some }, way, mod));
    };
    const one = async () => {
      for (let next = waiting.shift(); next && !this.stopped; next = waiting.shift()) {
        try {
          const fields = { stream_id: next.stream, waits: "true" };
          const made = await upload<Swap>(`/api/mods/${mod}/swaps`, files.get(next.path)!, fields, () => {});
          swaps.push(made.id);
          ready.push(made.id);
        } catch (error) {
          failed.push(`${next.path}: ${(error as { what?: string }).what ?? "it could not be sent."}`);
        }
        this.done++;
        await prepare(enough);
      }
    };
    await Promise.all(Array.from({ length: AT_ONCE }, one));
    await prepare(1);
    removeEventListener("beforeunload", ask);
    this.total = 0;
    this.tell(mod, swaps, failed, waiting.length);
    await linesChanged();
  }

  private tell(mod_id: number, swaps: number[], failed: string[], left: number): void {
    const body = { swaps, aside: [], skipped: 0, unable: 0 };
    const more = [
      left ? `${count(left, "file")} not sent.` : "",
      failed.length ? `${count(failed.length, "file")} could not be sent: ${failed[0]}` : "",
    ];
    app.say([`${count(swaps.length, "take")} made.`, ...more].filter(Boolean).join(" "), {
      label: "Undo",
      run: async () => {
        const params = { path: { mod_id } };
        await app.attempt(api.POST("/api/mods/{mod_id}/take-back", { params, body }));
        await linesChanged();
      },
    });
  }
}

export const sending = new Sending();
