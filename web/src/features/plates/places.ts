import { type Matrix4, Vector3 } from "three";
import type { Plate, PlateBody } from "../../shared/api/client";
import { fromRows } from "../../stage";
import type { Point } from "../../store/bench";

/** The middle of a body's box on the plate, from its corner; turned so far from how its case laid it. */
export interface SetPlace {
  x_mm: number;
  y_mm: number;
  turn_deg: number;
}

type Rows = [number, number, number, number][];

export function matrixOf(body: PlateBody): Matrix4 | null {
  return fromRows(body.home_to_plate as Rows | null);
}

/** Home coordinates of a body to the plate; null for one that does not lie there. */
export function onPlate(plate: Plate, id: string, home: Point): Point | null {
  const body = plate.bodies.find((b) => b.id === id);
  const matrix = body && matrixOf(body);
  if (!matrix) return null;
  const v = new Vector3(...home).applyMatrix4(matrix);
  return [v.x, v.y, v.z];
}

export function byHand(plate: Plate): Record<string, SetPlace> {
  return (plate.settings.pack?.places ?? {}) as Record<string, SetPlace>;
}

export interface Box {
  low: [number, number];
  high: [number, number];
  top: number;
}

export function boxOf(body: PlateBody): Box | null {
  const [low, high] = body.box_mm ?? [];
  if (!low || !high) return null;
  return { low: [low[0] ?? 0, low[1] ?? 0], high: [high[0] ?? 0, high[1] ?? 0], top: high[2] ?? 0 };
}

/** Those that move with a body: itself, and what belongs to the same kit. */
export function movesWith(plate: Plate, id: string): PlateBody[] {
  const body = plate.bodies.find((b) => b.id === id);
  if (!body) return [];
  return plate.bodies.filter((b) => b.id === id || (body.kit !== "" && b.kit === body.kit && b.box_mm !== null));
}

/** Where a person put it, also while it is not there yet; else where it lies. */
function placeOf(plate: Plate, body: PlateBody): SetPlace | null {
  const put = byHand(plate)[body.id];
  if (put) return put;
  const box = boxOf(body);
  if (!box) return null;
  const [x, y] = [(box.low[0] + box.high[0]) / 2, (box.low[1] + box.high[1]) / 2];
  return { x_mm: x, y_mm: y, turn_deg: body.turn_deg };
}

/** The places by hand, with a body and its kit moved by so much and, where it is by itself, turned. */
export function movedBy(plate: Plate, id: string, dx: number, dy: number, turn = 0): Record<string, SetPlace> {
  const out = { ...byHand(plate) };
  const round = (mm: number) => Math.round(mm * 100) / 100;
  for (const body of movesWith(plate, id)) {
    const from = placeOf(plate, body);
    if (!from) continue;
    out[body.id] = {
      x_mm: round(from.x_mm + dx),
      y_mm: round(from.y_mm + dy),
      turn_deg: body.id === id ? (from.turn_deg + turn + 360) % 360 : from.turn_deg,
    };
  }
  return out;
}

const SNAP_MM = 1.5;

/** By how much a move is bent so that an edge of the box comes to the plate's margin, or a gap away from a neighbour's edge. */
export function snapped(plate: Plate, id: string, dx: number, dy: number): [number, number] {
  const body = plate.bodies.find((b) => b.id === id);
  const own = body && boxOf(body);
  if (!own || !plate.size_mm) return [dx, dy];
  const with_ = new Set(movesWith(plate, id).map((b) => b.id));
  const gap = Number(plate.settings.pack?.gap_mm ?? 3);
  const margin = Number(plate.settings.pack?.margin_mm ?? 2);
  const others = plate.bodies.filter((b) => !with_.has(b.id)).flatMap((b) => boxOf(b) ?? []);
  const along = (axis: 0 | 1, by: number): number => {
    const low = own.low[axis] + by;
    const high = own.high[axis] + by;
    const size = plate.size_mm?.[axis] ?? 0;
    const ways = [margin - low, size - margin - high];
    for (const other of others)
      ways.push(
        other.high[axis] + gap - low,
        other.low[axis] - gap - high,
        other.low[axis] - low,
        other.high[axis] - high,
      );
    const best = ways.reduce((a, b) => (Math.abs(b) < Math.abs(a) ? b : a), Number.POSITIVE_INFINITY);
    return Math.abs(best) <= SNAP_MM ? by + best : by;
  };
  return [along(0, dx), along(1, dy)];
}
