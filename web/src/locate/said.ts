import { api, type SayingOut } from "../lib/api";
import { app } from "../lib/app.svelte";
import { spaced } from "../lib/format";

/** Tell what was said of many streams, and how it is taken back, and have it shown. It is told first: whoever sees it in the list
 * finds its own Undo beside it. */
export async function tellSaid(made: SayingOut, text: string, changed: () => Promise<void>): Promise<void> {
  app.say(text, {
    label: "Undo",
    run: async () => {
      const path = { saying_id: made.id };
      const back = await app.attempt(api.POST("/api/sayings/{saying_id}/undo", { params: { path } }));
      if (!back) return;
      await changed();
      app.say(`${spaced(back.streams)} streams are as they were.`);
    },
  });
  await changed();
}
