import { create } from "zustand";

/** The layer the ruler stands at, and how it is shown. */
export const useLayer = create<{ layer: number; on: boolean; picture: boolean; difference: boolean; playing: boolean }>(
  () => ({ layer: 0, on: false, picture: false, difference: false, playing: false }),
);
