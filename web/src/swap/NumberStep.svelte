<script lang="ts">
  /** A step of a treatment that is a number: its name, a field, its unit. Arrow keys go by `by`; Shift, ten times as far. */
  let {
    label,
    value,
    from,
    to,
    by = 1,
    unit = "",
    hint = "",
    wide = false,
    show = (n) => String(n),
    read = readNumber,
    set,
  }: {
    label: string;
    value: number;
    from: number;
    to: number;
    by?: number;
    unit?: string;
    hint?: string;
    wide?: boolean;
    show?: (value: number) => string;
    read?: (text: string) => number;
    set: (value: number) => void;
  } = $props();

  function readNumber(text: string): number {
    return text.trim() ? Number(text.replace(/\s/g, "").replace(",", ".").replace("−", "-")) : NaN;
  }
  const within = (n: number) => Math.max(from, Math.min(to, n));

  function typed(field: HTMLInputElement) {
    const next = read(field.value);
    if (Number.isFinite(next) && within(next) !== value) set(within(next));
    else field.value = show(value); // what can't be read changes nothing
  }

  function onkeydown(e: KeyboardEvent & { currentTarget: HTMLInputElement }) {
    if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
    e.preventDefault();
    const step = (e.key === "ArrowUp" ? by : -by) * (e.shiftKey ? 10 : 1);
    const now = read(e.currentTarget.value);
    e.currentTarget.value = show(
      within(Math.round(((Number.isFinite(now) ? now : value) + step) * 1e6) / 1e6),
    );
  }
</script>

<label class="flex items-center gap-1.5">
  <span class="text-quiet">{label}</span>
  <input
    class="input input-sm num {wide ? 'w-28' : 'w-20'}"
    inputmode="decimal"
    aria-label={unit ? `${label}, ${unit}` : label}
    title={hint}
    value={show(value)}
    onchange={(e) => typed(e.currentTarget)}
    {onkeydown}
  />
  {#if unit}<span class="text-quiet">{unit}</span>{/if}
</label>
