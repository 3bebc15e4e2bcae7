import { create } from "zustand";

interface Overlay {
  which: "commands" | "keys" | null;
  open: (which: "commands" | "keys") => void;
  close: () => void;
}

/** What lies over the page: the command box, or the overview of keys. */
export const useOverlay = create<Overlay>((set) => ({
  which: null,
  open: (which) => set({ which }),
  close: () => set({ which: null }),
}));
