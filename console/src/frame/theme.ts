// The theme follows the system unless the person has chosen one.

export type Theme = "system" | "light" | "dark";

const key = "ostiarius-theme";
const system = matchMedia("(prefers-color-scheme: dark)");

export function chosenTheme(): Theme {
  const stored = localStorage.getItem(key);
  return stored === "light" || stored === "dark" ? stored : "system";
}

export function chooseTheme(theme: Theme) {
  localStorage.setItem(key, theme);
  applyTheme();
}

export function applyTheme() {
  const theme = chosenTheme();
  document.documentElement.dataset.theme = theme === "system" ? (system.matches ? "dark" : "light") : theme;
}

system.addEventListener("change", applyTheme);
