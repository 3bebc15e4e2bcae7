import { create } from "zustand";

export type Visibility = "shown" | "ghost" | "hidden";
export type Tool = "gauge" | "saw" | null;
export type Panel = "step" | "details" | "history";
export type ViewName = "front" | "right" | "left" | "back" | "above" | "below" | "start" | "fit";
export type Point = [number, number, number];

export interface Focus {
  point: Point;
  radius: number;
  text: string;
  /** The flag it belongs to. */
  flag?: string;
}

interface BenchState {
  step: string;
  piece: string | null;
  visibility: Record<string, Visibility>;
  tool: Tool;
  panel: Panel;
  rawHeld: boolean;
  view: { name: ViewName; count: number };
  focus: Focus | null;
  gauge: Point[];
  /** The jaws opened beside each other. */
  book: boolean;
  open: (step: string) => void;
  act: (piece: string | null) => void;
  show: (piece: string, how: Visibility) => void;
  take: (tool: Tool) => void;
  turnTo: (panel: Panel) => void;
  holdRaw: (held: boolean) => void;
  look: (name: ViewName) => void;
  pointAt: (focus: Focus | null) => void;
  openBook: (book: boolean) => void;
  measure: (point: Point) => void;
  clear: () => void;
  reset: () => void;
}

const FRESH = {
  step: "intake",
  piece: null,
  visibility: {} as Record<string, Visibility>,
  tool: null as Tool,
  panel: "step" as Panel,
  rawHeld: false,
  focus: null as Focus | null,
  gauge: [] as Point[],
  book: false,
};

/** What the person has open. Nothing here is saved with the case. */
export const useBench = create<BenchState>((set) => ({
  ...FRESH,
  view: { name: "start", count: 0 },
  open: (step) =>
    set((s) => ({ step, panel: "step", focus: null, tool: s.tool === "saw" && step !== "trim" ? null : s.tool })),
  act: (piece) => set({ piece }),
  show: (piece, how) => set((s) => ({ visibility: { ...s.visibility, [piece]: how } })),
  take: (tool) => set((s) => ({ tool: s.tool === tool ? null : tool, gauge: [] })),
  turnTo: (panel) => set((s) => ({ panel: s.panel === panel ? "step" : panel })),
  holdRaw: (rawHeld) => set({ rawHeld }),
  look: (name) => set((s) => ({ view: { name, count: s.view.count + 1 } })),
  pointAt: (focus) => set({ focus }),
  openBook: (book) =>
    set((s) => ({
      book,
      step: "bite",
      panel: "step",
      view: { name: book ? "above" : "start", count: s.view.count + 1 },
    })),
  measure: (point) => set((s) => ({ gauge: s.gauge.length >= 2 ? [point] : [...s.gauge, point] })),
  clear: () => set({ tool: null, gauge: [], focus: null }),
  reset: () => set((s) => ({ ...FRESH, view: { name: "start", count: s.view.count + 1 } })),
}));
