import { useEffect, useRef } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { useCommands } from "../../store/commands";
import { typing } from "./typing";

// Does the person walk the page by keyboard (Tab), or point at it?
let walking = false;
window.addEventListener("keydown", (event) => {
  if (event.key === "Tab") walking = true;
});
window.addEventListener("pointerdown", () => {
  walking = false;
});

/** Does the person walk the page by keyboard? */
export const byKeyboard = (): boolean => walking;

interface Props {
  id: string;
  title: string;
  keys: string;
  group: string;
  run: () => void;
}

/** A command with a key, known to the command box and the overview as long as this is mounted. */
export function Command({ id, title, keys, group, run }: Props) {
  const latest = useRef(run);
  latest.current = run;
  const add = useCommands((s) => s.add);
  const remove = useCommands((s) => s.remove);
  useEffect(() => {
    add({ id, title, keys, group, run: () => latest.current() });
    return () => remove(id);
  }, [id, title, keys, group, add, remove]);
  // With Alt nothing is typed: these work in a text field too.
  const everywhere = keys.startsWith("alt+");
  const digit = /(^|\+)\d$/.test(keys);
  useHotkeys(
    // Signs stand on other keys, with or without Shift, on other keyboards.
    keys === "?" || keys === "/" ? `${keys}, shift+${keys}` : keys,
    (event) => {
      // Under a dialog nothing is done, and its own keys (Escape) are left to it.
      if (document.querySelector("dialog[open]")) return;
      // Enter is the button's own for who walks by keyboard; after a click with the mouse it is the command's.
      const at = event.target instanceof HTMLElement ? event.target.closest("button, a, select, summary") : null;
      if (keys === "enter" && at && walking) return;
      event.preventDefault();
      latest.current();
    },
    {
      enableOnFormTags: true,
      ignoreEventWhen: (event) => !everywhere && typing(event),
      useKey: !digit,
      preventDefault: false,
    },
  );
  return null;
}
