import { create } from "zustand";
import type { Point } from "../../store/bench";

/** The pin that is being pulled: where it is, and why it could not stand there; empty where it can. */
export const usePulledPin = create<{ at: Point | null; why: string }>(() => ({ at: null, why: "" }));
