import { create } from "zustand";

export type Visibility = "shown" | "ghost" | "hidden";
export type Panel = "step" | "details" | "history";
export type ViewName = "front" | "right" | "left" | "back" | "above" | "below" | "start" | "fit";
export type Point = [number, number, number];

export interface Focus {
  point: Point;
  radius: number;
  text: string;
  /** The way out of the surface there, where it matters from which side one looks. */
  facing?: Point;
  /** The flag it belongs to. */
  flag?: string;
}

/** A tool in the hand. at : the step it belongs to, "" for one that is used at every step. */
export interface InHand {
  id: string;
  at: string;
}

/** A point on a bite scan and the same point on a jaw, each in its own home (mm); a pair may still lack one. */
export interface Pair {
  bite?: Point;
  jaw?: "upper" | "lower";
  on?: string;
  at?: Point;
}

/** What the person looks at and how: all a scene may ask besides the case itself. */
export interface View {
  /** The open step, the scan the tools act on, and the tool in the hand. */
  step: string;
  piece: string | null;
  tool: InHand | null;
  visibility: Record<string, Visibility>;
  /** The raw scan is seen through the body as long as a key is held. */
  rawHeld: boolean;
  /** The jaws opened beside each other. */
  book: boolean;
  /** The lower as it came is seen beside where the bite scans put it. */
  came: boolean;
  /** Another bite than the one of the models that is seen beside it, by its id. */
  beside: string | null;
  /** Gum is tinted, so that teeth stand out from it; their numbers stand beside them. */
  tint: boolean;
  /** The map of the open step: how far off the scan it is where it was reduced; how thick the wall. */
  map: boolean;
  numbers: boolean;
  /** The bite scan that is being marked, and the pair that is being set: its number, what it has so far. */
  marking: { piece: string; number: number; pair: Pair } | null;
  /** Numbers of a step that are being pulled and not yet kept: what they would give is shown at once. */
  tried: Tried | null;
  /** A surface that is being changed by hand: it stands there until what comes of it is worked out. */
  held: { piece: string; digest: string } | null;
  /** Where the section stands, while that tool is in the hand. */
  section: Section;
}

/** A plane across all that stands on the stage: to which of its axes it is square, by how much it is turned from that about the two
 * others (degrees), where along its own direction (mm), and whether the half is kept that is usually taken away. */
export interface Section {
  axis: 0 | 1 | 2;
  tilt: number;
  lean: number;
  mm: number;
  other: boolean;
}

export interface Tried {
  step: string;
  piece: string;
  values: Record<string, number>;
}

/** A place that is to be shown once its step is here, in the home of its scan. */
export interface Wanted {
  step: string;
  place: { piece: string; point_mm: Point; radius_mm: number } | null;
  text: string;
  flag: string;
}

/** A move of a body (4x4 by columns, on the bench). piece : its address, a jaw's with all that is printed beside it; * : of all. */
export interface Move {
  piece: string;
  matrix: number[];
}

interface BenchState extends View {
  panel: Panel;
  eye: { name: ViewName; count: number };
  focus: Focus | null;
  open: (step: string) => void;
  act: (piece: string | null) => void;
  show: (piece: string, how: Visibility) => void;
  take: (tool: InHand) => void;
  turnTo: (panel: Panel) => void;
  holdRaw: (held: boolean) => void;
  look: (name: ViewName) => void;
  pointAt: (focus: Focus | null) => void;
  wanted: Wanted | null;
  want: (wanted: Wanted | null) => void;
  mark: (piece: string | null) => void;
  setPair: (number: number, pair: Pair) => void;
  openBook: (book: boolean) => void;
  showCame: (came: boolean) => void;
  lookBeside: (bite: string | null) => void;
  tintGum: (tint: boolean) => void;
  showMap: (map: boolean) => void;
  showNumbers: (numbers: boolean) => void;
  tryValues: (tried: Tried | null) => void;
  cutAt: (section: Section) => void;
  /** What the map says under the pointer, in its unit; null where it says nothing. */
  under: number | null;
  underPointer: (under: number | null) => void;
  holdSurface: (held: View["held"]) => void;
  /** What is being moved beyond what is kept: it moves at once. */
  preview: Move[] | null;
  tryMove: (moves: Move | Move[] | null) => void;
  clear: () => void;
  reset: () => void;
}

const FRESH = {
  step: "intake",
  piece: null,
  visibility: {} as Record<string, Visibility>,
  tool: null as InHand | null,
  panel: "step" as Panel,
  rawHeld: false,
  focus: null as Focus | null,
  wanted: null as Wanted | null,
  book: false,
  came: true,
  beside: null as string | null,
  tint: false,
  map: false,
  numbers: true,
  marking: null as View["marking"],
  tried: null as Tried | null,
  section: { axis: 0, tilt: 0, lean: 0, mm: 0, other: false } as Section,
  held: null as View["held"],
  under: null as number | null,
  preview: null as BenchState["preview"],
};

export const MARKS: InHand = { id: "marks", at: "bite" };

/** What the person has open. Nothing here is saved with the case. */
export const useBench = create<BenchState>((set) => ({
  ...FRESH,
  eye: { name: "start", count: 0 },
  open: (step) =>
    set((s) => ({
      step,
      panel: "step",
      focus: null,
      marking: null,
      tried: null,
      // What belongs to another step is put down.
      tool: s.tool && s.tool.id !== MARKS.id && (s.tool.at === "" || s.tool.at === step) ? s.tool : null,
    })),
  act: (piece) => set({ piece }),
  show: (piece, how) => set((s) => ({ visibility: { ...s.visibility, [piece]: how } })),
  take: (tool) => set((s) => ({ tool: s.tool?.id === tool.id ? null : tool, tried: null })),
  turnTo: (panel) => set((s) => ({ panel: s.panel === panel ? "step" : panel })),
  holdRaw: (rawHeld) => set({ rawHeld }),
  look: (name) => set((s) => ({ eye: { name, count: s.eye.count + 1 } })),
  pointAt: (focus) => set({ focus }),
  want: (wanted) => set({ wanted }),
  mark: (piece) =>
    set(() =>
      piece
        ? {
            tool: MARKS,
            step: MARKS.at,
            panel: "step",
            book: false,
            focus: null,
            marking: { piece, number: -1, pair: {} },
          }
        : { tool: null, marking: null },
    ),
  setPair: (number, pair) => set((s) => (s.marking ? { marking: { ...s.marking, number, pair } } : {})),
  tryMove: (moves) => set({ preview: moves && [moves].flat() }),
  tryValues: (tried) => set({ tried }),
  cutAt: (section) => set({ section }),
  underPointer: (under) => set({ under }),
  holdSurface: (held) => set({ held }),
  showCame: (came) => set({ came }),
  lookBeside: (beside) => set({ beside, book: false }),
  tintGum: (tint) => set({ tint }),
  showMap: (map) => set({ map }),
  showNumbers: (numbers) => set({ numbers }),
  openBook: (book) =>
    set((s) => ({
      book,
      step: "bite",
      panel: "step",
      eye: { name: book ? "above" : "start", count: s.eye.count + 1 },
    })),
  clear: () => set({ tool: null, focus: null, marking: null, tried: null }),
  reset: () => set((s) => ({ ...FRESH, eye: { name: "start", count: s.eye.count + 1 } })),
}));

/** The part of it that a scene is a function of. */
export function useView(): View {
  const {
    step,
    piece,
    tool,
    visibility,
    rawHeld,
    book,
    came,
    beside,
    tint,
    map,
    numbers,
    marking,
    tried,
    section,
    held,
  } = useBench();
  return {
    step,
    piece,
    tool,
    visibility,
    rawHeld,
    book,
    came,
    beside,
    tint,
    map,
    numbers,
    marking,
    tried,
    section,
    held,
  };
}
