import { Waypoints } from "lucide-react";
import { useEffect, useMemo } from "react";
import { create } from "zustand";
import { detailOf } from "../../case/look";
import { useMargins } from "../../case/told";
import { useNames } from "../../shared/toothNames";
import { Balls, Choice, type Drawing, Label, Rings, type Tool, ToolPanel, toStage } from "../../stage";
import type { Point } from "../../store/bench";
import { edgeOf, nearestOf, nearTooth } from "./edgeLine";

const COLOUR = "#8a3b12";
const WARNS = "#a3172a";
/** So near to the line it is taken hold of; freehand a place every so many mm. */
const HOLD_MM = 3;
const APART_MM = 0.5;
const MOST = 1500;

/** What is being pulled or drawn, in the home of its jaw. */
interface Pulling {
  how: "pull" | "free";
  piece: string;
  /** Where it was taken hold of, and where it is now; freehand all the way. */
  points: Point[];
}
const usePulling = create<Pulling>(() => ({ how: "pull", piece: "", points: [] }));
const none = () => usePulling.setState({ piece: "", points: [] });

const far = (a: Point, b: Point) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]);

/** The line as it will be about the place it is pulled to: from the sides of what is pulled straight there. */
function ghost(line: Point[], points: Point[], how: Pulling["how"]): Point[] {
  const last = points.at(-1);
  if (!last || line.length === 0) return points;
  if (how === "free") return points;
  const { i, mm } = nearestOf(line, last);
  const reach = Math.max(3, 1.4 * mm);
  const n = line.length;
  const side = (step: number) => {
    let at = i;
    for (let k = 0; k < n / 2 && far(line[at] ?? last, line[i] ?? last) < reach; k++) at = (at + step + n) % n;
    return line[at] ?? last;
  };
  return [side(-1), last, side(1)];
}

/** Every place it was pulled to so far. */
function placesOf({ data }: Pick<Drawing, "data">, piece: string): Point[] {
  const pulls = detailOf(data, "edge", piece)?.settings.pulls ?? {};
  return Object.values(pulls).flatMap((pull) => (pull.at ? [pull.at] : []));
}

function Draws(drawing: Drawing) {
  const { data, view, ui } = drawing;
  const { how, piece, points } = usePulling();
  const { told } = useMargins();
  const jaw = view.piece ?? "";
  const line = edgeOf(drawing, jaw);
  const seen = useMemo(() => (piece === jaw ? ghost(line, points, how) : []), [line, points, how, piece, jaw]);
  const last = points.at(-1);
  const near = last ? nearTooth(told[jaw] ?? [], last) : null;
  const place = (p: Point) => toStage(ui, { data, view }, jaw, p);
  const set = placesOf(drawing, jaw);
  const warns = near !== null && (near.on || near.mm < offOf(drawing, jaw));
  return (
    <>
      <Balls points={set.map(place)} colour={COLOUR} radius={0.45} />
      {seen.length > 1 && (
        <Rings
          rings={[{ points: seen.map(place), dotted: seen.map((_, i) => i === seen.length - 1) }]}
          colour={warns ? WARNS : "#1d6b5e"}
        />
      )}
    </>
  );
}

function offOf({ data }: Pick<Drawing, "data">, piece: string): number {
  return detailOf(data, "edge", piece)?.settings.off_mm ?? 0.5;
}

function Words(drawing: Drawing) {
  const { data, view, ui } = drawing;
  const { how, points } = usePulling();
  const { told } = useMargins();
  const names = useNames();
  const jaw = view.piece ?? "";
  const last = points.at(-1);
  const near = last ? nearTooth(told[jaw] ?? [], last) : null;
  useEffect(() => none, []);
  return (
    <>
      {last && near && (
        <Label
          at={toStage(ui, { data, view }, jaw, last)}
          tone={near.on || near.mm < offOf(drawing, jaw) ? "look" : "calm"}
        >
          {near.on
            ? `on ${names(near.fdi)}: it is held off the tooth`
            : `${near.mm.toFixed(1)} mm from ${names(near.fdi)}`}
        </Label>
      )}
      <ToolPanel name="Edge line">
        <Choice
          label="How it is moved"
          value={how}
          of={[
            { value: "pull", words: "pull" },
            { value: "free", words: "draw" },
          ]}
          onChoose={(how) => usePulling.setState({ how })}
        />
      </ToolPanel>
    </>
  );
}

export const edgeTool: Tool = {
  id: "edge-line",
  title: "Edge line",
  long: "Edge line: pull it on the surface",
  keys: "shift+y",
  icon: Waypoints,
  useHint: () =>
    usePulling((s) => s.how) === "pull"
      ? "Take hold of the line and pull it; it snaps to the surface. Hatched is what goes."
      : "Draw a stretch of the line anew, freehand.",
  here: (at) => at.data.pieces.some((p) => edgeOf(at, p.id).length > 0),
  picks: true,
  brushes: (shown) => shown.jaw !== null && shown.drawn !== "goes",
  onBrush: (drawing, shown, home, start) => {
    const { how, piece, points } = usePulling.getState();
    if (start) {
      const near = nearestOf(edgeOf(drawing, shown.piece), home);
      if (shown.piece !== drawing.view.piece || (how === "pull" && near.mm > HOLD_MM)) return;
      drawing.hold(true);
      return usePulling.setState({ piece: shown.piece, points: [home] });
    }
    const last = points.at(-1);
    if (piece !== shown.piece || !last) return;
    if (how === "pull") usePulling.setState({ points: [points[0] ?? home, home] });
    else if (far(home, last) > APART_MM && points.length < MOST) usePulling.setState({ points: [...points, home] });
  },
  endBrush: ({ doings, hold }) => {
    const { how, piece, points } = usePulling.getState();
    const last = points.at(-1);
    if (!piece || !last) return;
    none();
    hold(false);
    doings.entry("edge", piece, ["pulls"], "", how === "pull" ? { at: last } : { points_mm: points });
  },
  Draws,
  Words,
  drop: none,
};
