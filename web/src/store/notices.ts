import { create } from "zustand";

export interface Notice {
  id: number;
  tone: "look" | "calm" | "stop";
  text: string;
}

interface Notices {
  list: Notice[];
  say: (text: string, tone?: Notice["tone"]) => void;
  drop: (id: number) => void;
  dropAll: () => void;
}

/** So long it stands; what refuses something is read at leisure, and then it goes too. */
const CALM_MS = 5000;
const READ_MS = 15_000;

let next = 1;

export const useNotices = create<Notices>((set) => ({
  list: [],
  say: (text, tone = "calm") => {
    const id = next++;
    set((s) => ({ list: [...s.list.filter((n) => n.text !== text), { id, tone, text }].slice(-4) }));
    setTimeout(() => set((s) => ({ list: s.list.filter((n) => n.id !== id) })), tone === "calm" ? CALM_MS : READ_MS);
  },
  drop: (id) => set((s) => ({ list: s.list.filter((n) => n.id !== id) })),
  dropAll: () => set({ list: [] }),
}));

export const say = (text: string, tone?: Notice["tone"]) => useNotices.getState().say(text, tone);

/** Tell the person what went wrong. */
export function sayError(error: unknown) {
  say(error instanceof Error ? error.message : "Something went wrong. Try again.", "stop");
}
