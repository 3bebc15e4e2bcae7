import { useCallback, useMemo, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Box3, Vector3 } from "three";
import type { CaseOut } from "../../shared/api/client";
import { signed } from "../../shared/format";
import { useSame } from "../../shared/useSame";
import { type Pair, type Point, useBench } from "../../store/bench";
import type { Hand } from "./byHand";
import { CameraRig } from "./CameraRig";
import { FacingMark } from "./FacingMark";
import { Glass, Plate } from "./Furniture";
import { Label } from "./Label";
import { HandleWords, LevelHandle } from "./LevelHandle";
import { MapLegend } from "./MapLegend";
import { Marks, PlaneMarks, SwabTrail } from "./Marks";
import { type Bounds, Model } from "./Model";
import { Pairs } from "./Pairs";
import { PlayMove, TriedMove } from "./PlayMove";
import { type SawName, SawPlanes } from "./SawPlanes";
import { Split } from "./Split";
import { StageCanvas } from "./StageCanvas";
import { goodValue, nodeOf, placeOf, type Saws, type Shown, sawsOf, sceneOf, toStage } from "./scene";

interface Props {
  data: CaseOut;
  step: string;
  onSaw: (piece: string, which: SawName, mm: number) => void;
  /** The pairs of marks of a bite scan, when one is complete. */
  onMarks: (piece: string, pairs: Pair[]) => void;
  /** Three points of a jaw that make the occlusal plane: front, left, right. */
  onPlane: (piece: string, points: Point[]) => void;
  /** A stroke of the swab on a scan that follows, in its home. */
  onSwab: (piece: string, stroke: Stroke) => void;
  /** A correction of the level by hand, in degrees. */
  onLevel: (values: Partial<Hand>) => void;
}

const LEAST: Record<SawName, number> = { bottom: 2, back: 5 };
const MOST: Record<SawName, number> = { bottom: 60, back: 90 };
const NUDGE: Record<string, [SawName, number]> = {
  arrowup: ["bottom", -1],
  arrowdown: ["bottom", 1],
  arrowleft: ["back", 1],
  arrowright: ["back", -1],
};

const SWAB_MM = 1.5;
/** As the core keeps it: see swabbed.py. */
export interface Stroke {
  points_mm: Point[];
  radius_mm: number;
  adds: boolean;
}

type AllBounds = Record<string, Bounds>;

/** The 3D view of one case. */
export function Stage({ data, step, onSaw, onMarks, onPlane, onLevel, onSwab }: Props) {
  const {
    visibility,
    tool,
    rawHeld,
    gauge,
    focus,
    piece: acting,
    book,
    marking,
    setPair,
    plane: three,
    setPlane,
  } = useBench();
  const [bounds, setBounds] = useState<AllBounds>({});
  const [locked, setLocked] = useState(false);
  const [pulled, setPulled] = useState<Saws | null>(null);
  const sawing = tool === "saw" && step === "trim";
  // Progress changes the case ten times a second; the stage is drawn anew only when something on it changes.
  const scene = useSame(sceneOf(data, step, { raw: rawHeld, sawing }));
  const onBounds = useCallback((key: string, found: Bounds | null) => {
    setBounds((old) => {
      const { [key]: _, ...rest } = old;
      return found ? { ...rest, [key]: found } : rest;
    });
  }, []);
  const seen = scene.filter((s) => shownAs(s.piece, s.jaw, s.role) !== "hidden");
  const saved = useSame(marking ? marksOf(data, marking.piece) : []);
  const pairs = marking ? withPair(saved, marking.number, marking.pair) : [];

  function onMark(shown: Shown, home: Point) {
    if (tool === "plane" && shown.jaw) {
      const points = three?.on === shown.piece ? [...three.points, home] : [home];
      if (points.length < 3) return setPlane({ on: shown.piece, points });
      onPlane(shown.piece, points);
      return setPlane(null);
    }
    if (!marking) return;
    const number = marking.number < 0 ? saved.length : marking.number;
    const pair = shown.jaw
      ? { ...marking.pair, jaw: shown.jaw, on: shown.piece, at: home }
      : { ...marking.pair, bite: home };
    if (!pair.bite || !pair.at || !pair.jaw) return setPair(number, pair);
    onMarks(marking.piece, withPair(saved, number, pair));
    setPair(-1, {});
  }
  const actingPiece = data.pieces.find((p) => p.id === acting);
  const ownSaws = useSame(acting ? sawsOf(data, acting) : null);
  const plate = useSame(goodValue(data, "plate", "plate") as { width_mm: number; depth_mm: number } | undefined);
  const drawn = Object.values(bounds);
  const onPlate = step === "plate" && plate !== undefined;
  const whole = useMemo(() => {
    if (!onPlate || !plate) return union(bounds);
    return {
      centre: new Vector3(plate.width_mm / 2, plate.depth_mm / 2, 8),
      size: new Vector3(plate.width_mm, plate.depth_mm, 16),
    };
  }, [bounds, onPlate, plate]);
  const move = useSame(moveOf(data));
  const tips = useSame(
    onBench(data, (goodValue(data, "level", "tips") as [number, number, number][] | undefined) ?? []),
  );

  function shownAs(piece: string, jaw: string | null, role: string) {
    if (marking) return (jaw && role === "raw") || piece === marking.piece ? "shown" : "hidden";
    // What is no jaw is kept off the stage until it is chosen; what is not known yet is shown.
    const kept = !jaw && data.pieces.find((p) => p.id === piece)?.kind;
    const said = visibility[piece] ?? (!kept || piece === acting ? "shown" : "hidden");
    if (said === "hidden") return "hidden";
    if (rawHeld && role === "body") return "ghost";
    if (sawing && piece !== acting) return "ghost";
    return said;
  }

  function pull(which: SawName, mm: number, last: boolean) {
    if (!ownSaws || !acting) return;
    const value = Math.min(Math.max(mm, LEAST[which]), MOST[which]);
    setPulled(moved(pulled ?? ownSaws, which, value));
    if (last) {
      onSaw(acting, which, value);
      setPulled(null);
    }
  }

  const [stroke, setStroke] = useState<{ piece: string; points: Point[]; adds: boolean } | null>(null);
  const brushes = step === "bite" && tool === "swab";

  function brush(shown: Shown, home: Point, start: boolean, adds: boolean) {
    if (start) {
      setLocked(true);
      return setStroke({ piece: shown.piece, points: [home], adds });
    }
    if (stroke?.piece !== shown.piece) return;
    const last = stroke.points.at(-1) as Point;
    const apart = Math.hypot(home[0] - last[0], home[1] - last[1], home[2] - last[2]);
    if (apart > SWAB_MM / 2 && stroke.points.length < 2000) setStroke({ ...stroke, points: [...stroke.points, home] });
  }

  function endStroke() {
    if (!stroke) return;
    onSwab(stroke.piece, { points_mm: stroke.points, radius_mm: SWAB_MM, adds: stroke.adds });
    setStroke(null);
    setLocked(false);
  }

  const nudged = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useHotkeys(
    Object.keys(NUDGE)
      .flatMap((key) => [key, `shift+${key}`])
      .join(", "),
    (event, hotkey) => {
      const nudge = NUDGE[hotkey.keys?.at(-1) ?? ""];
      const now = pulled ?? ownSaws;
      if (!nudge || !now) return;
      event.preventDefault();
      const [which, sign] = nudge;
      const mm = Math.round((now[which].mm + sign * (event.shiftKey ? 1 : 0.1)) * 100) / 100;
      pull(which, mm, false);
      // Kept when the keys rest: one change in the history, not one a step.
      clearTimeout(nudged.current);
      nudged.current = setTimeout(() => pull(which, mm, true), 500);
    },
    { enabled: sawing, useKey: true },
  );

  const saws = sawing ? (pulled ?? ownSaws) : null;
  return (
    <div
      className="stage-ground absolute inset-0"
      onPointerUp={endStroke}
      onPointerLeave={endStroke}
      data-testid="stage"
      data-shown={seen.length}
      data-drawn={drawn.length}
      data-full={drawn.filter((b) => !b.light).length}
    >
      <StageCanvas>
        {seen.map((s) => (
          <Model
            key={s.key}
            shown={s}
            ghost={shownAs(s.piece, s.jaw, s.role) === "ghost"}
            saws={s.piece === acting && s.role === "raw" ? saws : null}
            layer={marking && !s.jaw ? 1 : 0}
            onMark={onMark}
            onBrush={brushes && s.role === "map" ? brush : undefined}
            onBounds={onBounds}
          />
        ))}
        <Marks gauge={gauge} focus={focus} />
        {onPlate && plate && <Plate width={plate.width_mm} depth={plate.depth_mm} />}
        {step === "level" && <Glass tips={tips} />}
        {three && <PlaneMarks points={three.points.map((p) => onStage(data, three.on, step, p))} />}
        {saws && actingPiece && (
          <SawPlanes saws={saws} matrix={placeOf(data, actingPiece, step)} onPull={pull} onHold={setLocked} />
        )}
        {step === "bite" && !book && move && <PlayMove {...move} />}
        <TriedMove />
        {stroke && (
          <SwabTrail
            points={stroke.points.map((p) => onStage(data, stroke.piece, step, p))}
            radius={SWAB_MM}
            adds={stroke.adds}
          />
        )}
        {step === "level" && tool === "handle" && (
          <LevelHandle now={nodeOf(data, "level")?.settings as unknown as Hand} onSet={onLevel} onHold={setLocked} />
        )}
        {marking && (
          <>
            <Pairs data={data} piece={marking.piece} pairs={pairs} current={marking.number} />
            <Split
              left={{ layer: 0, ...ball(halfOf(bounds, marking.piece, false)), eye: [0.3, -1, 0.32] }}
              right={{ layer: 1, ...ball(halfOf(bounds, marking.piece, true)), eye: outwards(data, marking.piece) }}
            />
          </>
        )}
        <CameraRig
          centre={whole.centre}
          size={whole.size}
          ready={Object.keys(bounds).length > 0}
          locked={locked || marking !== null}
          floor={onPlate ? "plate" : "bench"}
        />
      </StageCanvas>
      <div className="pointer-events-none absolute inset-0 overflow-hidden">
        {gauge.length === 2 && gauge[0] && gauge[1] && (
          <Label
            at={[(gauge[0][0] + gauge[1][0]) / 2, (gauge[0][1] + gauge[1][1]) / 2, (gauge[0][2] + gauge[1][2]) / 2]}
          >
            <span data-testid="gauge">
              {new Vector3(...gauge[0]).distanceTo(new Vector3(...gauge[1])).toFixed(2)} mm
            </span>
          </Label>
        )}
        {step === "level" &&
          tool !== "plane" &&
          tool !== "handle" &&
          spaced(tips, LABELS_MM).map((p) => (
            <Label key={p.join()} at={p}>
              <span className="text-[11px]">{signed(p[2], 2)} mm</span>
            </Label>
          ))}
        {step === "level" && tool === "handle" && <HandleWords />}
        {focus && (
          <Label at={focus.point} tone="look">
            {focus.text}
          </Label>
        )}
      </div>
      {seen.some((s) => s.role === "map") && <MapLegend />}
      {marking && <div className="line pointer-events-none absolute inset-y-0 left-1/2 border-l" />}
      <FacingMark arch={!marking && !onPlate && !(book && step === "bite")} />
      {scene.length === 0 && (
        <p className="dim absolute inset-0 grid place-items-center">The scans come onto the stage in a moment …</p>
      )}
    </div>
  );
}

function onStage(data: CaseOut, piece: string, step: string, point: Point): Point {
  const p = toStage(data, piece, step, point);
  return [p.x, p.y, p.z];
}

/** The lower's move to its bite: from where the scanner had it beside the upper. */
function moveOf(data: CaseOut) {
  const upper = data.pieces.find((p) => p.jaw === "upper");
  const lower = data.pieces.find((p) => p.jaw === "lower");
  if (!upper || !lower) return null;
  return { piece: lower.id, came: placeOf(data, upper, "level"), place: placeOf(data, lower, "level") };
}

/** The pairs that are kept with the case. */
export function marksOf(data: CaseOut, piece: string): Pair[] {
  const marks = nodeOf(data, "fit")?.settings.marks as Record<string, Pair[]> | undefined;
  return marks?.[piece] ?? [];
}

function withPair(pairs: Pair[], number: number, pair: Pair): Pair[] {
  if (number < 0) return pairs;
  const out = [...pairs];
  out[number] = pair;
  return out;
}

function halfOf(bounds: AllBounds, piece: string, own: boolean): AllBounds {
  return Object.fromEntries(Object.entries(bounds).filter(([key]) => (key.split("/")[0] === piece) === own));
}

/** Where the surface of a bite scan looks to on the stage: there the eye stands. */
function outwards(data: CaseOut, id: string): [number, number, number] {
  const piece = data.pieces.find((p) => p.id === id);
  const about = goodValue(data, "intake", "about", id) as { up: [number, number, number] } | undefined;
  if (!piece || !about) return [0, -1, 0.2];
  if (piece.side) return [piece.side === "left" ? 1 : -1, -0.5, 0.1];
  const v = new Vector3(...about.up).transformDirection(placeOf(data, piece, "bite"));
  return [v.x, v.y, v.z];
}

const LABELS_MM = 13;

/** Of many points those that stand apart, so that words beside them do not lie on each other. */
function spaced(points: Point[], apart: number): Point[] {
  const out: Point[] = [];
  for (const p of points) if (out.every((q) => Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]) >= apart)) out.push(p);
  return out;
}

/** Tips are kept in the home of the jaw they were found on; both jaws share a bench. */
function onBench(data: CaseOut, tips: [number, number, number][]): [number, number, number][] {
  const on = (goodValue(data, "level", "auto") as { on: string } | undefined)?.on;
  const leader = data.pieces.find((p) => p.id === on);
  if (!leader) return [];
  const matrix = placeOf(data, leader, "level");
  return tips.map((p) => new Vector3(...p).applyMatrix4(matrix).toArray() as [number, number, number]);
}

function moved(saws: Saws, which: SawName, mm: number): Saws {
  const saw = saws[which];
  const by = mm - saw.mm;
  const point = saw.point.map((v, i) => v - (saw.keep[i] ?? 0) * by) as [number, number, number];
  return { ...saws, [which]: { ...saw, mm, point } };
}

/** The middle and the size of all that is drawn. */
function union(bounds: AllBounds): { centre: Vector3; size: Vector3 } {
  const whole = new Box3();
  for (const b of Object.values(bounds)) whole.union(b.box);
  if (whole.isEmpty()) return { centre: new Vector3(), size: new Vector3(60, 60, 40) };
  return { centre: whole.getCenter(new Vector3()), size: whole.getSize(new Vector3()) };
}

/** The middle, and a radius that keeps the corners in view from any side. */
function ball(bounds: AllBounds): { centre: Vector3; radius: number } {
  const { centre, size } = union(bounds);
  return { centre, radius: Math.max(Math.hypot(size.x, size.z), size.y) * 0.58 };
}
