import { useCallback, useMemo, useRef, useState } from "react";
import { Box3, Vector3 } from "three";
import type { Doings } from "../case/useCase";
import type { CaseOut } from "../shared/api/client";
import { useSame } from "../shared/useSame";
import { type Point, useBench, useView, type Visibility } from "../store/bench";
import { CameraRig } from "./CameraRig";
import { FacingMark } from "./FacingMark";
import type { At, Bounds, Corners, Drawing, Probed, Shown, StepUi, Tool } from "./kit";
import { Label } from "./Label";
import { MapLegend } from "./MapLegend";
import { PlaceMark } from "./Marks";
import { MissedPress } from "./MissedPress";
import { Model } from "./Model";
import { bodiesScene } from "./place";
import { StageCanvas } from "./StageCanvas";
import { TriedMove } from "./TriedMove";

interface Props {
  data: CaseOut;
  ui: StepUi;
  /** The tool in the hand. */
  tool: Tool | null;
  doings: Doings;
}

/** The 3D view of one case: what the open step puts there, and what the tool in the hand draws and does. */
export function Stage({ data, ui, tool, doings }: Props) {
  const view = useView();
  const focus = useBench((s) => s.focus);
  const [bounds, setBounds] = useState<Record<string, Bounds>>({});
  const [held, hold] = useState(false);
  const at: At = { data, view };
  // Progress changes the case ten times a second; the stage is drawn anew only when something on it changes.
  const scene = useSame((ui.scene ?? bodiesScene(ui))(at));
  const onBounds = useCallback((key: string, found: Bounds | null) => {
    setBounds((old) => {
      const { [key]: _, ...rest } = old;
      return found ? { ...rest, [key]: found } : rest;
    });
  }, []);
  const how = (shown: Shown) => ui.shows?.(at, shown) ?? shownAs(at, shown);
  const seen = scene.filter((s) => how(s) !== "hidden");
  const drawing: Drawing = { ...at, ui, doings, bounds, hold };
  const extent = useSame(ui.extent?.(at) ?? null);
  const whole = useMemo(
    () =>
      extent
        ? { centre: new Vector3(...extent.centre), size: new Vector3(...extent.size) }
        : unionOf(Object.values(bounds)),
    [bounds, extent],
  );
  const drawn = Object.values(bounds);
  const cuts = useSame(Object.fromEntries(seen.map((s) => [s.key, tool?.cuts?.(at, s) ?? ui.cuts?.(at, s) ?? null])));

  // The same functions at every drawing, so that no model is drawn anew for them.
  const latest = useRef({ tool, drawing });
  latest.current = { tool, drawing };
  const onPick = useCallback((shown: Shown, home: Point, place: Point) => {
    latest.current.tool?.onPick?.(latest.current.drawing, shown, home, place);
  }, []);
  const onBrush = useCallback((shown: Shown, home: Point, start: boolean, adds: boolean, face: Corners | null) => {
    latest.current.tool?.onBrush?.(latest.current.drawing, shown, home, start, adds, face);
  }, []);
  const onProbe = useCallback((probed: Probed | null) => latest.current.tool?.onProbe?.(probed), []);
  const endBrush = () => {
    tool?.endBrush?.(drawing);
    // Also where the tool was put down in the middle of a stroke.
    hold(false);
  };
  const { Draws, Words } = ui;
  return (
    <div
      className="stage-ground absolute inset-0"
      onPointerUp={endBrush}
      onPointerLeave={endBrush}
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
            ghost={how(s) === "ghost"}
            cuts={cuts[s.key] ?? null}
            layer={ui.layer?.(at, s) ?? 0}
            picks={tool?.picks ?? false}
            onPick={onPick}
            onBrush={tool?.brushes?.(s) ? onBrush : undefined}
            onProbe={tool?.onProbe ? onProbe : undefined}
            onBounds={onBounds}
          />
        ))}
        <PlaceMark focus={focus} />
        <TriedMove />
        {tool?.picks && !tool.draws && <MissedPress />}
        {Draws && <Draws {...drawing} />}
        {tool?.Draws && <tool.Draws {...drawing} />}
        <CameraRig
          centre={whole.centre}
          size={whole.size}
          ready={drawn.length > 0}
          locked={held || (ui.locked?.(view) ?? false)}
          drawn={tool?.draws ?? false}
          floor={ui.floor ?? "bench"}
        />
      </StageCanvas>
      <div className="pointer-events-none absolute inset-0 overflow-hidden">
        {tool?.Words && <tool.Words {...drawing} />}
        {Words && <Words {...drawing} />}
        {focus && (
          <Label at={focus.point} tone="look">
            {focus.text}
          </Label>
        )}
      </div>
      {seen.some((s) => s.drawn === "map") && <MapLegend />}
      <FacingMark arch={ui.facing?.(view) ?? true} />
      {scene.length === 0 && (
        <p className="dim absolute inset-0 grid place-items-center">The scans come onto the stage in a moment …</p>
      )}
    </div>
  );
}

/** As the person chose; what is no jaw is kept off the stage until it is chosen, what is not known yet is shown. */
export function shownAs({ data, view }: At, shown: Shown): Visibility {
  const kept = !shown.jaw && data.pieces.find((p) => p.id === shown.piece)?.kind;
  // What is printed by itself goes with its jaw.
  const jaw = view.visibility[shown.piece.split(".")[0] ?? ""];
  const said = view.visibility[shown.piece] ?? jaw ?? (!kept || shown.piece === view.piece ? "shown" : "hidden");
  return said !== "hidden" && view.rawHeld && shown.role === "body" ? "ghost" : said;
}

/** The middle and the size of all that is drawn. */
export function unionOf(bounds: Bounds[]): { centre: Vector3; size: Vector3 } {
  const whole = new Box3();
  for (const b of bounds) whole.union(b.box);
  if (whole.isEmpty()) return { centre: new Vector3(), size: new Vector3(60, 60, 40) };
  return { centre: whole.getCenter(new Vector3()), size: whole.getSize(new Vector3()) };
}
