import { create } from "zustand";

export type Visibility = "shown" | "ghost" | "hidden";
export type Tool = "gauge" | "saw" | "marks" | "plane" | "nudge" | "handle" | "swab" | null;

/** A point on a bite scan and the same point on a jaw, each in its own home (mm); a pair may still lack one. */
export interface Pair {
  bite?: Point;
  jaw?: string;
  on?: string;
  at?: Point;
}
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
  /** The bite scan that is being marked, and the pair that is being set: its number, what it has so far. */
  marking: { piece: string; number: number; pair: Pair } | null;
  mark: (piece: string | null) => void;
  setPair: (number: number, pair: Pair) => void;
  /** The three marks of Level as far as they are set, in the home of one jaw. */
  plane: { on: string; points: Point[] } | null;
  setPlane: (plane: { on: string; points: Point[] } | null) => void;
  openBook: (book: boolean) => void;
  /** What the map says under the pointer, mm; null where it says nothing. */
  under: number | null;
  underPointer: (under: number | null) => void;
  /** What is being moved by hand beyond what is kept (4x4 by columns, on the bench): it moves at once. piece * : all. */
  preview: { piece: string; matrix: number[] } | null;
  tryMove: (preview: BenchState["preview"]) => void;
  /** How often the move to the bite was asked to be played. */
  plays: number;
  play: () => void;
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
  marking: null as BenchState["marking"],
  plane: null as BenchState["plane"],
  under: null as number | null,
  plays: 0,
  preview: null as BenchState["preview"],
};

function fits(tool: Tool, step: string): boolean {
  if (tool === "plane" || tool === "handle") return step === "level";
  if (tool === "nudge" || tool === "swab") return step === "bite";
  return tool === "saw" ? step === "trim" : tool !== "marks";
}

/** What the person has open. Nothing here is saved with the case. */
export const useBench = create<BenchState>((set) => ({
  ...FRESH,
  view: { name: "start", count: 0 },
  open: (step) =>
    set((s) => ({ step, panel: "step", focus: null, marking: null, tool: fits(s.tool, step) ? s.tool : null })),
  act: (piece) => set({ piece }),
  show: (piece, how) => set((s) => ({ visibility: { ...s.visibility, [piece]: how } })),
  take: (tool) => set((s) => ({ tool: s.tool === tool ? null : tool, gauge: [], plane: null })),
  turnTo: (panel) => set((s) => ({ panel: s.panel === panel ? "step" : panel })),
  holdRaw: (rawHeld) => set({ rawHeld }),
  look: (name) => set((s) => ({ view: { name, count: s.view.count + 1 } })),
  pointAt: (focus) => set({ focus }),
  mark: (piece) =>
    set(() =>
      piece
        ? {
            tool: "marks",
            step: "bite",
            panel: "step",
            book: false,
            focus: null,
            marking: { piece, number: -1, pair: {} },
          }
        : { tool: null, marking: null },
    ),
  setPair: (number, pair) => set((s) => (s.marking ? { marking: { ...s.marking, number, pair } } : {})),
  tryMove: (preview) => set({ preview }),
  play: () => set((s) => ({ plays: s.plays + 1 })),
  underPointer: (under) => set({ under }),
  setPlane: (plane) => set({ plane }),
  openBook: (book) =>
    set((s) => ({
      book,
      step: "bite",
      panel: "step",
      view: { name: book ? "above" : "start", count: s.view.count + 1 },
    })),
  measure: (point) => set((s) => ({ gauge: s.gauge.length >= 2 ? [point] : [...s.gauge, point] })),
  clear: () => set({ tool: null, gauge: [], focus: null, marking: null, plane: null }),
  reset: () => set((s) => ({ ...FRESH, view: { name: "start", count: s.view.count + 1 } })),
}));
