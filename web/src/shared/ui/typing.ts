const ON_A_SLIDE = /^(Arrow|Page|Home|End)/;
const NOT_TYPED = ["range", "checkbox", "radio", "button", "file"];

/** Is this key for the field that it was pressed in? A slide has its arrows, a choice all but what goes with Ctrl or ⌘. */
export function typing(event: KeyboardEvent): boolean {
  const field = event.target instanceof HTMLElement ? event.target.closest("input, textarea, select") : null;
  if (field instanceof HTMLSelectElement) return !event.ctrlKey && !event.metaKey;
  if (field instanceof HTMLInputElement && NOT_TYPED.includes(field.type))
    return field.type === "range" && ON_A_SLIDE.test(event.key);
  return field !== null;
}
