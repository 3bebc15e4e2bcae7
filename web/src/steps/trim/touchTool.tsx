import { useThree } from "@react-three/fiber";
import { PenLine } from "lucide-react";
import { useEffect } from "react";
import { create } from "zustand";
import { goodOf, nodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import { acquire, Choice, type Drawing, type Loaded, release, Slide, type Tool, ToolPanel } from "../../stage";
import { type Point, useBench } from "../../store/bench";
import { sayError } from "../../store/notices";
import { DAB_STEP, dab, howFar, type Kind, type Surface, shown as show, surfaceOf } from "./touching";

/** What the brush is: what it does, how wide to each side (mm), how strong (0 to 1), and whether it may move teeth. */
const useBrush = create<{ kind: Kind; radius: number; strength: number; teeth: boolean }>(() => ({
  kind: "smooth",
  radius: 2,
  strength: 0.5,
  teeth: false,
}));

/** The surface in the hand, the stroke that is being made, and whether something on it is still to be worked out. */
interface Touching {
  digest: string;
  surface: Surface | null;
  origin: Point;
  moved: Set<number>;
  points: Point[];
  last: Point | null;
  dirty: boolean;
  ticks: number;
}
const IDLE: Touching = {
  digest: "",
  surface: null,
  origin: [0, 0, 0],
  moved: new Set(),
  points: [],
  last: null,
  dirty: false,
  ticks: 0,
};
const useTouching = create<Touching>(() => IDLE);
const MOST_POINTS = 2000;
/** After so long without a dab the surface on the stage gives way to what was worked out. */
const REST_MS = 1200;
const SETTLED = new Set(["done", "look", "off", "failed"]);

/** The whole surface of a jaw as it is touched up so far. */
export function touchable(data: CaseOut, piece: string): string | null {
  return goodOf(data, "touch", piece)?.mesh ?? goodOf(data, "teeth", piece)?.mesh ?? null;
}

async function surfaceFrom(loaded: Loaded): Promise<Surface> {
  const colours = loaded.geometry.getAttribute("color");
  const { channel } = loaded;
  const bytes = colours?.normalized ? 255 : 1;
  return surfaceOf(
    loaded.geometry,
    (i) => channel !== null && colours.getW(i) > 0 && (colours.getY(i) * bytes - channel.nought) * channel.step > 0,
  );
}

/** As it was before it was touched: the view is also that of the result before. */
function putBack({ surface, moved }: Touching) {
  if (!surface || moved.size === 0) return;
  surface.positions.set(surface.before);
  show(surface, moved);
}

/** Loads the surface of the jaw that is looked at, and lets it go. */
function useSurface(digest: string | null): void {
  useEffect(() => {
    if (!digest) return;
    let here = true;
    acquire(digest, "full")
      .then(async (loaded) => {
        const surface = await surfaceFrom(loaded);
        if (here) useTouching.setState({ ...IDLE, digest, surface, origin: loaded.origin, moved: new Set() });
      })
      .catch((error) => here && sayError(error));
    return () => {
      here = false;
      putBack(useTouching.getState());
      useTouching.setState(IDLE);
      release(digest, "full");
    };
  }, [digest]);
}

/** What is seen stays until all that was done is worked out and the brush has rested. */
function useSettled({ data, view, doings }: Drawing): void {
  const { dirty, ticks } = useTouching();
  const state = nodeOf(data, "touch", view.piece ?? "")?.state ?? "";
  const settled = dirty && !doings.busy && SETTLED.has(state);
  // biome-ignore lint/correctness/useExhaustiveDependencies: every dab begins the rest anew
  useEffect(() => {
    if (!settled) return;
    const rested = setTimeout(() => {
      if (useTouching.getState().points.length > 0) return;
      useTouching.setState({ dirty: false });
      useBench.getState().holdSurface(null);
    }, REST_MS);
    return () => clearTimeout(rested);
  }, [settled, ticks]);
}

function Panel(drawing: Drawing) {
  const { data, view } = drawing;
  const { kind, radius, strength, teeth } = useBrush();
  const { surface } = useTouching();
  useTouching((s) => s.ticks);
  const piece = view.piece ?? "";
  const held = view.held?.piece === piece ? view.held.digest : null;
  useSurface(held ?? touchable(data, piece));
  useSettled(drawing);
  useEffect(() => () => useBench.getState().holdSurface(null), []);
  const far = surface ? howFar(surface) : null;
  return (
    <ToolPanel name="Touch-up">
      <Choice
        label="What it does"
        value={kind}
        of={[
          { value: "add", words: "add" },
          { value: "carve", words: "carve" },
          { value: "smooth", words: "smooth" },
        ]}
        onChoose={(kind) => useBrush.setState({ kind })}
      />
      <Slide
        label="Width"
        unit="mm"
        value={radius * 2}
        least={0.8}
        most={16}
        step={0.2}
        onSlide={(mm) => useBrush.setState({ radius: Math.round(mm * 5) / 10 })}
      />
      <Slide
        label="Strength"
        unit="%"
        value={Math.round(strength * 100)}
        least={5}
        most={100}
        step={5}
        onSlide={(percent) => useBrush.setState({ strength: percent / 100 })}
      />
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          checked={teeth}
          onChange={(e) => useBrush.setState({ teeth: e.target.checked })}
        />
        may touch teeth
      </label>
      <span
        className="dim text-xs"
        data-testid="touch-far"
        data-ready={surface !== null}
        data-most={far?.most ?? 0}
        data-corners={far?.corners ?? 0}
      >
        {surface
          ? far && far.most > 0.001
            ? `Moved by up to ${far.most.toFixed(2)} mm.`
            : "Brush on the surface."
          : "In a moment …"}
      </span>
    </ToolPanel>
  );
}

/** What was moved is drawn. */
function Draws() {
  const ticks = useTouching((s) => s.ticks);
  const invalidate = useThree((s) => s.invalidate);
  // biome-ignore lint/correctness/useExhaustiveDependencies: at every dab
  useEffect(() => invalidate(), [ticks, invalidate]);
  return null;
}

function touch(at: Touching, first: number): void {
  const { surface, origin, moved, points } = at;
  if (!surface || points.length >= MOST_POINTS) return;
  const p = surface.positions;
  const [x, y, z] = [0, 1, 2].map((k) => (p[3 * first + k] ?? 0) + (origin[k] ?? 0)) as Point;
  points.push([x, y, z]);
  const touched = dab(surface, { first, ...useBrush.getState() });
  for (const i of touched) moved.add(i);
  show(surface, around(surface, touched));
}

/** What is touched and what lies next to it: there the light changes too. */
function around(s: Surface, touched: number[]): Set<number> {
  const out = new Set(touched);
  for (const i of touched)
    for (let e = s.start[i] ?? 0; e < (s.start[i + 1] ?? 0); e++)
      for (let k = 0; k < 3; k++) out.add(s.faces[3 * (s.which[e] ?? 0) + k] ?? 0);
  return out;
}

/** Of the corners of a triangle the one that is nearest to a place in the jaw's home. */
function nearest(s: Surface, corners: number[], home: Point, origin: Point): number {
  const far = (i: number) =>
    Math.hypot(...[0, 1, 2].map((k) => (s.positions[3 * i + k] ?? 0) + (origin[k] ?? 0) - (home[k] ?? 0)));
  return corners.map((c) => s.of[c] ?? 0).reduce((a, b) => (far(b) < far(a) ? b : a));
}

export const touchTool: Tool = {
  id: "touch-up",
  title: "Touch-up",
  long: "Touch-up: add, carve, smooth",
  keys: "shift+t",
  icon: PenLine,
  hint: "Brush on the surface: it changes under the brush, as far over the surface as the brush is wide. Teeth stay as they are unless you say that they may be touched.",
  here: ({ data }) => data.pieces.some((p) => touchable(data, p.id) !== null),
  picks: true,
  brushes: (shown) => shown.role === "touched",
  onBrush: ({ hold, view }, shown, home, start, _adds, corners) => {
    const at = useTouching.getState();
    // The view does not turn while one brushes, ready or not.
    if (start) hold(true);
    if (!at.surface || !corners || shown.piece !== view.piece || shown.digest !== at.digest) return;
    if (start) {
      useBench.getState().holdSurface({ piece: shown.piece, digest: at.digest });
      useTouching.setState({ points: [], last: null });
    }
    const now = useTouching.getState();
    const step = DAB_STEP * useBrush.getState().radius;
    const apart = now.last ? Math.hypot(home[0] - now.last[0], home[1] - now.last[1], home[2] - now.last[2]) : step;
    if (apart < step || (!start && now.points.length === 0)) return;
    touch(now, nearest(at.surface, corners, home, at.origin));
    useTouching.setState({ last: home, ticks: now.ticks + 1 });
  },
  endBrush: ({ doings, hold, view }) => {
    const { points, ticks } = useTouching.getState();
    if (points.length === 0 || !view.piece) return;
    const { kind, radius, strength, teeth } = useBrush.getState();
    useTouching.setState({ points: [], last: null, dirty: true, ticks: ticks + 1 });
    hold(false);
    doings.entry("touch", view.piece, ["strokes"], "", { kind, points_mm: points, radius_mm: radius, strength, teeth });
  },
  Draws,
  Words: Panel,
};
