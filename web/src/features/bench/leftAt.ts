/** The step a case was open at when its page was loaded anew: one goes on there, not at the first step that waits. */

const KEPT = "bench-left-at";

let reloaded = performance
  .getEntriesByType("navigation")
  .some((e) => (e as PerformanceNavigationTiming).type === "reload");

export function keepLeft(number: string, step: string): void {
  sessionStorage.setItem(KEPT, JSON.stringify({ number, step }));
}

/** Once after a reload; "" where another case was open, or none. */
export function leftAt(number: string): string {
  if (!reloaded) return "";
  reloaded = false;
  try {
    const kept = JSON.parse(sessionStorage.getItem(KEPT) ?? "{}");
    return kept.number === number ? String(kept.step ?? "") : "";
  } catch {
    return "";
  }
}
