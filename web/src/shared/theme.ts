const KEY = "bench-theme";

export function applyTheme(): void {
  document.documentElement.dataset.theme = localStorage.getItem(KEY) ?? "daylight";
}

export function switchTheme(): void {
  localStorage.setItem(KEY, document.documentElement.dataset.theme === "evening" ? "daylight" : "evening");
  applyTheme();
}
