<script lang="ts">
  import type { Snippet } from "svelte";
  import type { HTMLDialogAttributes } from "svelte/elements";

  /** A dialog over the page. It is open as long as it is there, holds the focus, and gives it back. Its top stays where it is while it
   *  grows, so that what is about to be clicked does not move away. tall: it may need the whole height. */
  let {
    label,
    width,
    tall = false,
    onclose,
    children,
    ...more
  }: {
    label: string;
    width: string;
    tall?: boolean;
    onclose: () => void;
    children: Snippet;
  } & HTMLDialogAttributes = $props();
  let dialog: HTMLDialogElement;

  export const close = () => dialog.close();
  $effect(() => dialog.showModal());
</script>

<dialog
  bind:this={dialog}
  aria-label={label}
  class="mx-auto mb-auto max-w-[94vw] overflow-auto rounded-box border border-edge bg-base-100 p-5 text-base-content backdrop:bg-black/40 {width} {tall
    ? 'mt-[2vh] max-h-[96vh]'
    : 'mt-[9vh] max-h-[88vh]'}"
  {onclose}
  {...more}
>
  {@render children()}
</dialog>
