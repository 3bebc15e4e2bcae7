import { create } from "zustand";

/** The label that the Place tool acts on; the first where nothing was chosen. */
export const usePicked = create<{ piece: string; name: string }>(() => ({ piece: "", name: "" }));
