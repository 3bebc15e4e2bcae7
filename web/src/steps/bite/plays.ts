import { create } from "zustand";

/** How often the move to the bite was asked to be played. */
export const usePlays = create<{ count: number }>(() => ({ count: 0 }));

export const play = () => usePlays.setState((s) => ({ count: s.count + 1 }));
