const KEY = "routrel-theme";
export type Theme = "light" | "dark";

export function currentTheme(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === "light" || kept === "dark") return kept;
  return window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function applyTheme(theme: Theme = currentTheme()) {
  document.documentElement.dataset.theme = theme;
}

export function toggleTheme() {
  const next = currentTheme() === "light" ? "dark" : "light";
  localStorage.setItem(KEY, next);
  applyTheme(next);
}
