/** Numbers as people read them. Thousands are set apart by narrow spaces. */

export function spaced(n: number): string {
  return Math.round(n)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, "\u202f");
}

/** m:ss.mmm, or h:mm:ss.mmm from an hour on. */
export function clock(seconds: number, digits = 3): string {
  const unit = 10 ** digits;
  const all = Math.round(Math.max(0, seconds) * unit);
  const whole = Math.floor(all / unit);
  const h = Math.floor(whole / 3600);
  const m = Math.floor((whole % 3600) / 60);
  const s = String(whole % 60).padStart(2, "0");
  const rest = digits ? `.${String(all % unit).padStart(digits, "0")}` : "";
  return h ? `${h}:${String(m).padStart(2, "0")}:${s}${rest}` : `${m}:${s}${rest}`;
}

/** Bytes in the largest decimal unit that keeps a digit before the point. */
export function bytes(n: number): string {
  if (n < 1000) return `${n} B`;
  const units = ["kB", "MB", "GB", "TB"];
  let value = n / 1000;
  let i = 0;
  while (value >= 999.95 && i < units.length - 1) {
    value /= 1000;
    i++;
  }
  return `${value < 10 ? value.toFixed(2) : value < 100 ? value.toFixed(1) : value.toFixed(0)} ${units[i]}`;
}

export function megabytes(n: number): string {
  return (n / 1e6).toFixed(2);
}

/** "58 min", "3 h 12 min", "41 s". */
export function duration(seconds: number): string {
  if (seconds < 60) return `${Math.round(seconds)} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** "1 entry", "2 entries", "3 files". */
export function count(n: number, noun: string): string {
  return `${spaced(n)} ${n === 1 ? noun : `${noun.replace(/y$/, "ie")}s`}`;
}
