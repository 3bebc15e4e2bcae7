import { create } from "zustand";

export type Notation = "fdi" | "universal" | "palmer";
const KEY = "bench-notation";

/** How teeth are spoken of on this screen. They are always kept as FDI. */
export const useNotation = create<{ notation: Notation; speak: (notation: Notation) => void }>((set) => ({
  notation: (localStorage.getItem(KEY) as Notation | null) ?? "fdi",
  speak: (notation) => {
    localStorage.setItem(KEY, notation);
    set({ notation });
  },
}));
