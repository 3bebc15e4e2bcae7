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
}

let next = 1;

export const useNotices = create<Notices>((set) => ({
  list: [],
  say: (text, tone = "calm") => {
    const id = next++;
    set((s) => ({ list: [...s.list.filter((n) => n.text !== text), { id, tone, text }].slice(-4) }));
    if (tone === "calm") setTimeout(() => set((s) => ({ list: s.list.filter((n) => n.id !== id) })), 5000);
  },
  drop: (id) => set((s) => ({ list: s.list.filter((n) => n.id !== id) })),
}));

export const say = (text: string, tone?: Notice["tone"]) => useNotices.getState().say(text, tone);

/** Tell the person what went wrong. */
export function sayError(error: unknown) {
  say(error instanceof Error ? error.message : "Something went wrong. Try again.", "stop");
}
