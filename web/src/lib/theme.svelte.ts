/** The two themes of our own; the choice is kept in the browser. */

export type Theme = "dusk" | "day";

const stored = localStorage.getItem("zubret-theme");
const preferred: Theme = matchMedia("(prefers-color-scheme: light)").matches ? "day" : "dusk";
export const theme = $state<{ name: Theme }>({
  name: stored === "dusk" || stored === "day" ? stored : preferred,
});

export function applyTheme(): void {
  document.documentElement.dataset.theme = theme.name;
}

export function switchTheme(): void {
  theme.name = theme.name === "dusk" ? "day" : "dusk";
  localStorage.setItem("zubret-theme", theme.name);
  applyTheme();
}
