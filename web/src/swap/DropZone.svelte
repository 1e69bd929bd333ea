<script lang="ts">
  /** Where a replacement is dropped, or chosen. */
  let {
    large = false,
    sending,
    send,
  }: {
    large?: boolean;
    /** How much of a file has been sent, 0 to 1; null while none is. */
    sending: number | null;
    send: (file: File) => void;
  } = $props();
  let over = $state(false);
  let chooser: HTMLInputElement;

  function drop(e: DragEvent) {
    e.preventDefault();
    over = false;
    const file = e.dataTransfer?.files[0];
    if (file) send(file);
  }
</script>

<input
  type="file"
  class="hidden"
  aria-label="Replacement file"
  accept="audio/*,.wav,.aiff,.aif,.flac,.ogg,.opus,.mp3"
  bind:this={chooser}
  onchange={(e) => {
    const file = e.currentTarget.files?.[0];
    e.currentTarget.value = "";
    if (file) send(file);
  }}
/>
<button
  class="w-full rounded-box border border-dashed px-3 text-center {large ? 'py-12' : 'py-4'} {over
    ? 'border-primary bg-base-300'
    : 'border-edge'}"
  onclick={() => chooser.click()}
  ondragover={(e) => {
    e.preventDefault();
    over = true;
  }}
  ondragleave={() => (over = false)}
  ondrop={drop}
>
  {#if sending !== null}
    <progress class="progress progress-primary w-48" value={sending} max="1" aria-label="Sending the file"
    ></progress>
  {:else}
    <span class="font-medium"
      >{large ? "Drop the replacement here, or choose a file" : "Drop another file"}</span
    >
    <span class="block text-quiet">WAV, AIFF, FLAC, Ogg or MP3</span>
  {/if}
</button>
