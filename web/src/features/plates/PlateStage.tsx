import { useCallback, useMemo, useState } from "react";
import { Matrix4, Vector3 } from "three";
import type { Plate } from "../../shared/api/client";
import {
  type Bounds,
  BuildPlate,
  CameraRig,
  type Cut,
  Label,
  Line,
  Model,
  PulledBall,
  type Shown,
  StageCanvas,
} from "../../stage";
import { type Point, useBench } from "../../store/bench";
import { inLayers, thickOf, thickUp } from "./Boundary";
import { useCovered, useLayer, useTable } from "./layer";
import { type Box, boxOf, matrixOf, snapped } from "./places";
import type { PlateDoings } from "./usePlate";

interface Props {
  plate: Plate;
  doings: PlateDoings;
  chosen: string;
  onChoose: (id: string) => void;
}

const INK = "#17282b";
const OFF: Cut = { on: false, point: [0, 0, 0], keep: [0, 0, 1] };

/** The plate with its bodies; the chosen one is pulled by its ball. */
export function PlateStage({ plate, doings, chosen, onChoose }: Props) {
  const [held, setHeld] = useState(false);
  const [bounds, setBounds] = useState<Record<string, Bounds>>({});
  const onBounds = useCallback((key: string, box: Bounds | null) => {
    setBounds((old) => {
      if (box) return { ...old, [key]: box };
      const { [key]: _, ...rest } = old;
      return rest;
    });
  }, []);
  const shown = useMemo(() => scene(plate), [plate]);
  const cuts = useCuts(plate, shown);
  const onPick = useCallback((one: Shown) => onChoose(one.piece), [onChoose]);
  const focus = useBench((s) => s.focus);
  const covered = useCovered(plate);
  const [width, depth] = plate.size_mm ?? [144, 82];
  const centre = useMemo(() => new Vector3(width / 2, depth / 2, 8), [width, depth]);
  const size = useMemo(() => new Vector3(width, depth, 16), [width, depth]);
  const [up, setUp] = useState<number | null>(null);
  const boundary = useBoundary(plate, width, up);
  const body = plate.bodies.find((b) => b.id === chosen);
  const box = body && boxOf(body);
  return (
    <div
      className={`stage-ground absolute inset-0 ${covered ? "invisible" : ""}`}
      data-testid="plate-stage"
      data-drawn={Object.keys(bounds).length}
    >
      <StageCanvas>
        <BuildPlate width={width} depth={depth} />
        {plate.boxes.map((box) => (
          <Line key={box.join()} points={edgeOf(box)} color="#8a9896" />
        ))}
        {shown.map((s) => (
          <Model
            key={s.key}
            shown={s}
            ghost={false}
            cuts={cuts[s.key] ?? null}
            picks={s.role === "body"}
            onPick={onPick}
            onBounds={onBounds}
          />
        ))}
        {box && body && (
          <PulledBall
            name={`move-${body.id}`}
            at={[(box.low[0] + box.high[0]) / 2, (box.low[1] + box.high[1]) / 2, box.top + 3]}
            colour="#12564e"
            radius={1.6}
            along="level"
            onHold={setHeld}
            onPut={(to) => {
              const [dx, dy] = offset(plate, chosen, box, to);
              doings.move(chosen, dx, dy);
            }}
          >
            {(to) => <Outline box={box} by={offset(plate, chosen, box, to)} />}
          </PulledBall>
        )}
        {boundary && (
          <PulledBall
            name="boundary"
            at={boundary.at}
            colour="#12564e"
            radius={1.6}
            along="up"
            onHold={setHeld}
            onPull={(to) => setUp(to ? to[2] : null)}
            onPut={(to) => doings.set("pack", { thick_up_mm: inLayers(to[2], boundary.thick, boundary.top) })}
          >
            {() => <Frame width={width} depth={depth} z={boundary.up} />}
          </PulledBall>
        )}
        <CameraRig
          centre={centre}
          size={size}
          ready={plate.size_mm !== null}
          locked={held}
          drawn={false}
          floor={`plate ${plate.id} ${width} ${depth}`}
        />
      </StageCanvas>
      <div className="pointer-events-none absolute inset-0 overflow-hidden">
        {box && body && (
          <Label at={[(box.low[0] + box.high[0]) / 2, (box.low[1] + box.high[1]) / 2, box.top + 3]}>
            <span data-testid="chosen">{body.name}</span>
          </Label>
        )}
        {boundary && (
          <Label at={[boundary.at[0], boundary.at[1], boundary.up]}>
            <span data-testid="boundary-on-stage">
              {boundary.thick.toFixed(2)} mm up to {boundary.up.toFixed(2)} mm
            </span>
          </Label>
        )}
        {focus && (
          <Label at={focus.point} tone="look">
            {focus.text}
          </Label>
        )}
      </div>
    </div>
  );
}

/** Up to where layers are thick, of a plate in two heights. pulled : where it is in hand */
function useBoundary(plate: Plate, width: number, pulled: number | null) {
  const { ends } = useTable(plate);
  return useMemo(() => {
    const thick = thickOf(plate);
    const top = ends[ends.length - 1];
    if (thick === 0 || top === undefined) return null;
    const now = thickUp(plate, ends);
    const at: Point = [width, 0, now];
    return { thick, top, at, up: pulled === null ? now : inLayers(pulled, thick, top) };
  }, [plate, ends, width, pulled]);
}

function scene(plate: Plate): Shown[] {
  return plate.bodies.flatMap((body) => {
    const matrix = matrixOf(body);
    if (!matrix) return [];
    const one = (digest: string, role: string): Shown => ({
      key: `${body.id}/${role}`,
      piece: body.id,
      jaw: body.jaw || null,
      digest,
      early: null,
      role,
      drawn: "body",
      matrix,
    });
    return [one(body.mesh, "body"), ...(body.supports ? [one(body.supports, "supports")] : [])];
  });
}

/** While the ruler is in hand all above its layer is taken away, in each mesh's own home. */
function useCuts(plate: Plate, shown: Shown[]): Record<string, [Cut, Cut]> {
  const { layer, on } = useLayer();
  const picture = useCovered(plate);
  const { ends } = useTable(plate);
  return useMemo(() => {
    // Behind a picture nothing is seen of it.
    if (!on || picture) return {};
    const z = ends[Math.min(layer, ends.length - 1)] ?? 0;
    return Object.fromEntries(shown.map((s) => [s.key, [under(s.matrix, z), OFF] as [Cut, Cut]]));
  }, [shown, on, picture, layer, ends]);
}

function under(matrix: Matrix4, z: number): Cut {
  const back = new Matrix4().copy(matrix).invert();
  const point = new Vector3(0, 0, z).applyMatrix4(back);
  // Along the plate's upright a size correction changes nothing of the direction.
  const keep = new Vector3(0, 0, -1).transformDirection(back);
  return { on: true, away: true, point: point.toArray() as Point, keep: keep.toArray() as Point };
}

function offset(plate: Plate, id: string, box: Box, to: Point): [number, number] {
  return snapped(plate, id, to[0] - (box.low[0] + box.high[0]) / 2, to[1] - (box.low[1] + box.high[1]) / 2);
}

/** Where it will stand. */
function Outline({ box, by }: { box: Box; by: [number, number] }) {
  const points = useMemo<Point[]>(() => {
    const [x, y] = [box.low[0] + by[0], box.low[1] + by[1]];
    return around(x, y, box.high[0] - box.low[0], box.high[1] - box.low[1], 0.1);
  }, [box, by[0], by[1]]);
  return <Line points={points} color={INK} />;
}

/** Round the whole plate at a height. */
function Frame({ width, depth, z }: { width: number; depth: number; z: number }) {
  const points = useMemo(() => around(0, 0, width, depth, z), [width, depth, z]);
  return <Line points={points} color="#12564e" />;
}

function around(x: number, y: number, w: number, d: number, z: number): Point[] {
  return [
    [x, y, z],
    [x + w, y, z],
    [x + w, y + d, z],
    [x, y + d, z],
    [x, y, z],
  ];
}

/** Where something lay that is gone. */
function edgeOf(box: number[]): Point[] {
  const [x = 0, y = 0, wide = 0, deep = 0] = box;
  return [
    [x, y, 0.1],
    [x + wide, y, 0.1],
    [x + wide, y + deep, 0.1],
    [x, y + deep, 0.1],
    [x, y, 0.1],
  ];
}
