<script lang="ts">
  /** A step of a treatment that is one of a few. */
  let {
    label,
    value,
    choices,
    off = [],
    hidden = false,
    width = "w-48",
    set,
  }: {
    label: string;
    value: string;
    choices: [key: string, text: string][];
    /** Those that can't be chosen now. */
    off?: string[];
    /** Whether the row says already what it is. */
    hidden?: boolean;
    width?: string;
    set: (key: string) => void;
  } = $props();
</script>

<label class="flex items-center gap-1.5">
  {#if !hidden}<span class="text-quiet">{label}</span>{/if}
  <select
    class="select select-sm {width}"
    aria-label={label}
    {value}
    onchange={(e) => set(e.currentTarget.value)}
  >
    {#each choices as [key, text] (key)}<option value={key} disabled={off.includes(key)}>{text}</option
      >{/each}
  </select>
</label>
