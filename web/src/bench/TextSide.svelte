<script lang="ts">
  import LayoutEditor from "../components/LayoutEditor.svelte";
  import type { Tried } from "../lib/api";
  import { count } from "../lib/format";
  import type { Word } from "../lib/words";
  import type { Draft } from "./draft.svelte";

  /** A layout's text, and whether it reads the file. */
  let {
    draft,
    tried,
    words,
    goTo,
    begin,
  }: {
    draft: Draft;
    tried: Tried | null;
    words: Word[];
    goTo: (at: number) => void;
    /** Show how a layout may begin. */
    begin: () => void;
  } = $props();
  let editor = $state<LayoutEditor>();
</script>

<section aria-label="Layout text" class="flex min-h-0 flex-col rounded-box border border-line max-lg:h-80">
  {#if draft.current}
    <div class="min-h-0 grow overflow-hidden rounded-t-box">
      {#key draft.shown}
        <LayoutEditor
          bind:this={editor}
          text={draft.shown}
          readonly={!draft.own}
          fault={tried?.fault ?? null}
          {words}
          change={draft.change}
        />
      {/key}
    </div>
    <div class="border-t border-line px-3 py-2" aria-live="polite">
      {#if tried?.fault}
        <button class="text-left text-error" onclick={() => editor?.goTo(tried!.fault!.line)}
          >■ line {tried.fault.line}: {tried.fault.what}</button
        >
      {:else if tried?.problem}
        <p class="text-error">
          ■ {tried.problem.what}
          <span class="num block text-quiet">{tried.problem.where}</span>
          {#if tried.problem.offset !== null}
            <button class="btn btn-xs mt-1" onclick={() => goTo(tried!.problem!.offset!)}
              >Go to that byte</button
            >
          {/if}
        </p>
      {:else if tried?.game}
        <p class={tried.game.recognised ? "text-success" : "text-error"}>
          {tried.game.recognised
            ? "✓ these load rules are this game's"
            : "■ these load rules are not this game's"}
        </p>
      {:else if tried}
        <p>
          <span class="text-success">✓ reads this file</span>
          <span class="num text-quiet"
            >· {count(
              tried.items,
              tried.describes === "bank" || tried.describes === "stream" ? "stream" : "entry",
            )} · {(tried.explained * 100).toFixed(1)} % explained</span
          >
        </p>
      {:else}<p class="text-quiet">reading …</p>{/if}
    </div>
  {:else}
    <div class="p-5">
      <p>No layout describes this file yet.</p>
      <p class="mt-2 text-quiet">
        Begin a new one: with what is seen in the file, with a known layout that comes near, or with little,
        and describe it region by region. The bytes on the right follow as you write.
      </p>
      <button class="btn btn-primary mt-4" onclick={begin}>Begin a layout …</button>
    </div>
  {/if}
</section>
