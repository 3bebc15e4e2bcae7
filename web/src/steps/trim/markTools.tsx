import { Brush, Component, Scissors } from "lucide-react";
import { useEffect, useRef } from "react";
import { Vector3 } from "three";
import { create } from "zustand";
import { Command } from "../../shared/ui/Command";
import { Balls, brushed, type Drawing, fromStage, Slide, type Tool, ToolPanel, through, toStage } from "../../stage";
import type { Point } from "../../store/bench";
import { holdBegun } from "../../store/hand";
import { say } from "../../store/notices";
import { MarkOptions } from "./MarkOptions";
import { useMarking } from "./markings";
import { SawByNumbers } from "./SawByNumbers";

const GOES = "#8a3b12";
const STAYS = "#1d6b5e";
const here: Tool["here"] = ({ data }) => data.pieces.some((p) => p.jaw);

function SwabPanel(drawing: Drawing) {
  const { wide } = useMarking();
  return (
    <ToolPanel name="Swab">
      <Slide
        label="Width"
        unit="mm"
        value={wide * 2}
        least={0.6}
        most={10}
        step={0.2}
        onSlide={(mm) => useMarking.setState({ wide: Math.round(mm * 5) / 10 })}
      />
      <MarkOptions {...drawing} />
    </ToolPanel>
  );
}

export const markSwab: Tool = {
  id: "mark-swab",
  title: "Swab",
  long: "Swab: brush what goes",
  keys: "shift+b",
  icon: Brush,
  hint: "Brush what goes; it follows the surface into undercuts and round the ridge. With Alt, what stays.",
  here,
  picks: true,
  Words: SwabPanel,
  ...brushed({
    radius: () => useMarking.getState().wide,
    colours: [GOES, STAYS],
    on: (shown) => shown.jaw !== null && shown.drawn !== "goes",
    send: ({ doings }, { piece, points, adds }) => {
      const { wide, adds: marks } = useMarking.getState();
      doings.entry("marked", piece, ["marks"], "", { kind: "swab", points_mm: points, mm: wide, adds: adds === marks });
    },
  }),
};

function PiecePanel(drawing: Drawing) {
  return (
    <ToolPanel name="Whole piece">
      <MarkOptions {...drawing} />
    </ToolPanel>
  );
}

export const wholePiece: Tool = {
  id: "whole-piece",
  title: "Piece",
  long: "Piece: all that hangs together goes",
  keys: "shift+i",
  icon: Component,
  hint: "Press on a piece: all that hangs together with it goes, as far as marks part it from the rest.",
  here,
  picks: true,
  onPick: ({ doings }, shown, home) =>
    shown.jaw &&
    doings.entry("marked", shown.piece, ["marks"], "", {
      kind: "piece",
      points_mm: [home],
      adds: useMarking.getState().adds,
    }),
  Words: PiecePanel,
};

/** What was pressed of the three points of a saw, in the home of its jaw. */
const usePoints = create<{ piece: string; points: Point[]; other: boolean }>(() => ({
  piece: "",
  points: [],
  other: false,
}));
const none = () => usePoints.setState({ piece: "", points: [] });

function Draws({ data, view, ui }: Drawing) {
  const { piece, points } = usePoints();
  return <Balls points={points.map((p) => toStage(ui, { data, view }, piece, p))} colour={GOES} radius={0.6} />;
}

/** The side of the plane through three points that lies away from the middle of the jaw. */
export function sideOf(points: [Point, Point, Point], middle: Point): Point {
  const [a, b, c] = points.map((p) => new Vector3(...p)) as [Vector3, Vector3, Vector3];
  const way = b.sub(a).cross(c.sub(a)).normalize();
  if (way.dot(new Vector3(...middle).sub(a)) > 0) way.negate();
  return [way.x, way.y, way.z];
}

/** With two points, straight away from the eye: the third is where the eye is. */
function byView({ bounds, data, view, ui, doings }: Drawing) {
  const { piece, points } = usePoints.getState();
  const [a, b] = points;
  const seen = through([]);
  const eye = seen && fromStage(ui, { data, view }, piece, seen.eye);
  const box = Object.entries(bounds).find(([key]) => key.startsWith(`${piece}/`))?.[1].box;
  const middle = box?.getCenter(new Vector3());
  const home = middle && fromStage(ui, { data, view }, piece, [middle.x, middle.y, middle.z]);
  if (!a || !b || !eye || !home) {
    say("A cut away from the eye needs two points: press on the model for them.");
    return;
  }
  none();
  const towards = sideOf([a, b, eye], home);
  if (towards.every(Number.isFinite))
    doings.entry("marked", piece, ["marks"], "", {
      kind: "saw",
      points_mm: [a],
      towards,
      adds: useMarking.getState().adds,
    });
}

function CutPanel(drawing: Drawing) {
  const latest = useRef(drawing);
  latest.current = drawing;
  useEffect(
    () =>
      holdBegun({
        what: "The cut",
        is: () => usePoints.getState().points.length > 0,
        end: () => byView(latest.current),
        back: () => usePoints.setState({ points: usePoints.getState().points.slice(0, -1) }),
        forget: none,
      }),
    [],
  );
  const two = usePoints((s) => s.points.length) === 2;
  return (
    <ToolPanel name="Cut">
      <Command
        id="cut-by-view"
        title="Cut straight away from the eye"
        keys="enter"
        group="Tools"
        run={() => byView(drawing)}
      />
      <button type="button" disabled={!two} className="btn btn-xs" onClick={() => byView(drawing)}>
        away from the eye <kbd className="key">↵</kbd>
      </button>
      <SawByNumbers {...drawing} />
      <MarkOptions {...drawing} />
    </ToolPanel>
  );
}

export const threePoints: Tool = {
  id: "three-points",
  title: "Cut",
  long: "Cut: saw through three points",
  keys: "shift+k",
  icon: Scissors,
  useHint: () =>
    [
      "A saw through three places: press on the first. What lies away from the middle of the jaw goes.",
      "Now on the second.",
      "Now on the third; or cut through both straight away from the eye, with Enter.",
    ][usePoints((s) => s.points.length)] ?? "",
  here,
  picks: true,
  onPick: ({ bounds, doings }, shown, home, stage) => {
    if (!shown.jaw) return;
    const before = usePoints.getState();
    const points = before.piece === shown.piece ? [...before.points, home] : [home];
    const [a, b, c] = points;
    if (!a || !b || !c) return usePoints.setState({ piece: shown.piece, points });
    none();
    const box = bounds[shown.key]?.box;
    const middle = box ? box.getCenter(new Vector3()) : new Vector3(...stage);
    // In the home of the jaw: as the first point lies to the middle on the stage.
    const back = middle.applyMatrix4(shown.matrix.clone().invert());
    const towards = sideOf([a, b, c], [back.x, back.y, back.z]);
    if (towards.every(Number.isFinite))
      doings.entry("marked", shown.piece, ["marks"], "", {
        kind: "saw",
        points_mm: [a],
        towards,
        adds: useMarking.getState().adds,
      });
  },
  Draws,
  Words: CutPanel,
  drop: none,
};
