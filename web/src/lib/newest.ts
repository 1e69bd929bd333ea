/**
 * Questions of which only the newest counts: an answer that comes late must not replace a newer one.
 * `const ask = newest();` and then, at each question, `const current = ask();` and after its answer `if (!current()) return;`.
 */
export function newest(): () => () => boolean {
  let last = 0;
  return () => {
    const mine = ++last;
    return () => mine === last;
  };
}
