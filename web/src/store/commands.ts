import { create } from "zustand";

export interface CommandEntry {
  id: string;
  title: string;
  keys: string;
  group: string;
  run: () => void;
}

interface Commands {
  list: Record<string, CommandEntry>;
  add: (entry: CommandEntry) => void;
  remove: (id: string) => void;
}

/** Every command there is at the moment: the command box and the overview of keys read this. */
export const useCommands = create<Commands>((set) => ({
  list: {},
  add: (entry) => set((s) => ({ list: { ...s.list, [entry.id]: entry } })),
  remove: (id) =>
    set((s) => {
      const { [id]: _, ...rest } = s.list;
      return { list: rest };
    }),
}));

const WORDS: Record<string, string> = {
  mod: "Ctrl",
  shift: "Shift",
  alt: "Alt",
  escape: "Esc",
  enter: "Enter",
  slash: "/",
};

/** Keys as a person reads them: "mod+shift+z" is Ctrl+Shift+Z. */
export function keyWords(keys: string): string {
  return keys
    .split("+")
    .map((k) => WORDS[k] ?? k.toUpperCase())
    .join("+");
}
