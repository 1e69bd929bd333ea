<script lang="ts">
  import { app } from "../lib/app.svelte";
  import Modal from "./Modal.svelte";

  /** The keys, by where they work. */
  const KEYS: [where: string, keys: [key: string, deed: string][]][] = [
    [
      "Everywhere",
      [
        ["Ctrl K", "find a stream, or do something"],
        ["/", "to the screen's search field"],
        ["Space", "play, pause"],
        ["O", "original, new"],
        ["S", "hear the loop's seam"],
        ["?", "these keys"],
      ],
    ],
    [
      "In a list",
      [
        ["↑ ↓", "the row before, the next; in Locate it is heard"],
        ["Page ↑ ↓", "a screenful on"],
        ["Home End", "the first, the last"],
        ["Shift ↑ ↓", "choose on to there"],
        ["Ctrl Space", "choose this one more, or let it go"],
        ["Ctrl A", "choose all"],
        ["Esc", "choose only this one"],
        ["0246", "typed: to the row that begins so"],
      ],
    ],
    [
      "In Locate",
      [
        ["M", "mark"],
        ["E", "look closer"],
        ["Enter", "swap; in the name's field, name the next"],
      ],
    ],
    [
      "On the line board",
      [
        ["↑ ↓", "the line before, the next; it is heard"],
        ["Enter", "to its text; there, to the next line"],
        ["D", "done"],
        ["R", "record it"],
      ],
    ],
    [
      "In Swap",
      [
        ["Ctrl Z", "undo a step; with Shift, do it again"],
        ["T", "the next take"],
      ],
    ],
    [
      "On a stream's page",
      [
        ["↑ ↓", "the stream before, the next"],
        ["Enter", "swap"],
        ["Esc", "back to Locate"],
      ],
    ],
    [
      "In a drawing of sound",
      [
        ["← →", "a step back, on"],
        ["+ −", "closer, farther"],
        ["0", "all of it"],
      ],
    ],
  ];
  let modal: Modal;
</script>

<Modal bind:this={modal} label="Keys" width="w-[46rem]" tall onclose={() => (app.explaining = false)}>
  <div class="flex items-center justify-between gap-4">
    <h2 class="text-xl font-bold">Keys</h2>
    <button class="btn btn-sm" onclick={() => modal.close()}>Close</button>
  </div>
  <div class="mt-3 grid grid-cols-2 gap-x-10 gap-y-5 max-md:grid-cols-1">
    {#each KEYS as [where, keys] (where)}
      <section aria-label={where}>
        <h3 class="font-semibold">{where}</h3>
        <dl class="mt-1">
          {#each keys as [key, deed] (key)}
            <div class="flex items-baseline gap-3 border-b border-line py-1 last:border-0">
              <dt class="w-24 shrink-0"><kbd class="kbd kbd-sm">{key}</kbd></dt>
              <dd class="min-w-0">{deed}</dd>
            </div>
          {/each}
        </dl>
      </section>
    {/each}
  </div>
</Modal>
