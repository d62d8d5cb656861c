/** Light, dark, or what the system says. */
export type Theme = "system" | "light" | "dark";

const KEY = "rendel.theme";
const dark = window.matchMedia("(prefers-color-scheme: dark)");

export function theme(): Theme {
  const kept = localStorage.getItem(KEY);
  return kept === "light" || kept === "dark" ? kept : "system";
}

export function setTheme(next: Theme): void {
  localStorage.setItem(KEY, next);
  show();
}

export function followTheme(): void {
  show();
  dark.addEventListener("change", show);
}

function show(): void {
  const chosen = theme();
  document.documentElement.dataset.theme =
    chosen === "system" ? (dark.matches ? "dark" : "light") : chosen;
}
