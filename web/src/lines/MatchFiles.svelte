<script lang="ts">
  import { untrack } from "svelte";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type Matches, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { count, spaced } from "../lib/format";
  import { newest } from "../lib/newest";
  import type { Found } from "../lib/folders";
  import { AS_USUAL, chosenFiles, dropped, wayOf, type Alike } from "./alike";
  import AlikeForm from "./AlikeForm.svelte";
  import { sending } from "./sending.svelte";

  /** Files of a folder are matched with lines: which is meant for which, and what is doubtful, before anything is made. */
  let {
    files: given,
    streams,
    of,
    close,
  }: {
    files: Found[];
    /** The lines that files may be meant for, in their order. */
    streams: () => Promise<number[]>;
    /** What these are, in words. */
    of: string;
    close: () => void;
  } = $props();

  let modal: Modal;
  let files = $state.raw<Found[]>(untrack(() => given));
  let template = $state("");
  let byOrder = $state(false);
  let keepTaken = $state(false);
  let matches = $state.raw<Matches | null>(null);
  let problem = $state<ProblemText | null>(null);
  let how = $state<Alike>({ ...AS_USUAL });
  const asking = newest();
  const WAYS: Record<string, string> = {
    id: "by its id",
    name: "by its name",
    template: "by the template",
    order: "by the order",
  };
  const found = $derived((matches?.found ?? []).filter((m) => !keepTaken || !m.taken));
  const taken = $derived((matches?.found ?? []).filter((m) => m.taken).length);

  $effect(() => {
    const [some, text, order] = [files, template, byOrder];
    const timer = setTimeout(() => void match(some, text, order), 150);
    return () => clearTimeout(timer);
  });

  async function match(some: Found[], template: string, by_order: boolean) {
    if (!some.length) return (matches = null);
    const current = asking();
    try {
      const chosen = await streams();
      const body = { paths: some.map((f) => f.path), chosen, template, by_order };
      const answer = await got(
        api.POST("/api/mods/{mod_id}/matches", { params: { path: { mod_id: app.game!.mod_id } }, body }),
      );
      if (current()) [matches, problem] = [answer, null];
    } catch (error) {
      if (current()) [matches, problem] = [null, asProblem(error)];
    }
  }

  function start() {
    void sending.send(found, new Map(files.map((f) => [f.path, f.file])), wayOf(how, true));
    modal.close();
  }
</script>

<Modal
  bind:this={modal}
  label="Files for these lines"
  width="w-[56rem]"
  tall
  onclose={close}
  ondragover={(e) => e.preventDefault()}
  ondrop={async (e) => {
    e.preventDefault();
    if (e.dataTransfer) files = await dropped(e.dataTransfer);
  }}
>
  <div class="flex items-start justify-between gap-4">
    <div>
      <h2 class="text-lg font-bold">Files for these lines</h2>
      <p class="text-quiet">
        Drop a folder here. Its sounds are matched with {of}, and nothing is made before you say so.
      </p>
    </div>
    <div class="flex shrink-0 gap-2">
      <label class="btn btn-sm {files.length ? '' : 'btn-primary'}"
        >Choose a folder …
        <input
          type="file"
          class="sr-only"
          multiple
          {...{ webkitdirectory: true }}
          onchange={(e) => {
            files = chosenFiles(e.currentTarget.files!);
            e.currentTarget.value = "";
          }}
        /></label
      >
      <label class="btn btn-sm"
        >Choose files …
        <input
          type="file"
          class="sr-only"
          aria-label="Files for the lines"
          multiple
          accept="audio/*,.wav,.aiff,.aif,.flac,.ogg,.opus,.mp3"
          onchange={(e) => {
            files = chosenFiles(e.currentTarget.files!);
            e.currentTarget.value = "";
          }}
        /></label
      >
    </div>
  </div>
  <div class="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
    <label class="flex items-center gap-2">
      <span class="text-quiet">named as</span>
      <input
        class="input input-sm w-64 font-mono"
        aria-label="Template of the names"
        placeholder={"ids or names, wherever they stand"}
        title={"{id}, {name}, {language}, {bank} or {number}, and * for anything: {language}/{id}_*"}
        disabled={byOrder}
        bind:value={template}
      />
    </label>
    <label class="flex items-center gap-1.5"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={byOrder} /> in the order of the list</label
    >
    {#if taken}
      <label class="flex items-center gap-1.5"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={keepTaken} /> leave out the
        {spaced(taken)} that have a take</label
      >
    {/if}
  </div>
  {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
  {#if matches}
    <div role="status">
      <ul class="mt-3 flex flex-wrap gap-x-6 gap-y-1">
        <li class="text-success">✓ {count(found.length, "file")} of {spaced(files.length)} matched</li>
        {#if matches.doubts.length}<li class="text-error">■ {count(matches.doubts.length, "doubt")}</li>{/if}
        {#if matches.lefts}<li class="text-quiet">{count(matches.lefts, "file")} without a line</li>{/if}
        {#if matches.withouts}<li class="text-quiet">
            {count(matches.withouts, "line")} without a file
          </li>{/if}
      </ul>
    </div>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div
      class="mt-2 h-56 overflow-auto rounded-box border border-line"
      tabindex="0"
      role="region"
      aria-label="Matches"
    >
      <table class="w-full">
        <tbody>
          {#each matches.doubts as doubt, n (n)}
            <tr class="border-b border-line">
              <td class="num p-1.5 align-top break-all">{doubt.files.join(", ")}</td>
              <td class="p-1.5 align-top text-error"
                >{doubt.files.length > 1 ? "several files for" : "is it"}
                {doubt.streams.join(" or ")}{doubt.files.length > 1
                  ? ": none is taken"
                  : "? Name the language or the bank in its path"}</td
              >
            </tr>
          {/each}
          {#each found as m (m.path)}
            <tr class="border-b border-line [content-visibility:auto]">
              <td class="num p-1.5 break-all">{m.path}</td>
              <td class="p-1.5"
                >→ <span class="num">{m.stream_id}</span>
                {m.language}
                <span class="text-quiet">{m.bank}, {WAYS[m.how]}{m.taken ? "; its take will wait" : ""}</span
                ></td
              >
            </tr>
          {/each}
          {#each matches.left as path (path)}
            <tr class="border-b border-line text-quiet">
              <td class="num p-1.5 break-all">{path}</td>
              <td class="p-1.5">no line</td>
            </tr>
          {/each}
          {#if matches.without.length}
            <tr class="text-quiet">
              <td class="p-1.5" colspan="2"
                >Without a file: {matches.without.join(", ")}{matches.withouts > matches.without.length
                  ? " …"
                  : ""}</td
              >
            </tr>
          {/if}
        </tbody>
      </table>
    </div>
    <div class="mt-3"><AlikeForm bind:how /></div>
  {/if}
  <div class="mt-4 flex items-center justify-end gap-3">
    {#if sending.total}<span class="text-quiet">The files of the folder before are still being sent.</span
      >{/if}
    <button class="btn btn-sm" onclick={() => modal.close()}>Close</button>
    <button class="btn btn-sm btn-primary" disabled={!found.length || sending.total > 0} onclick={start}
      >Make {count(found.length, "take")}, fit and prepare them</button
    >
  </div>
</Modal>
