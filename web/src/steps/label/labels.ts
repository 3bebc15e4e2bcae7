import { Matrix4, Vector3 } from "three";
import { detailOf, goodOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import type { Point } from "../../store/bench";

/** A label put somewhere by hand, turned or added, as its settings keep it. */
export interface ByHand {
  name: "" | "text" | "code" | "mark";
  kind: "text" | "code" | "mark";
  pattern: string;
  at: Point | null;
  turn_deg: number;
  tall_mm: number | null;
}

export function labelsOf(data: CaseOut, piece: string) {
  return goodOf(data, "label", piece)?.labels ?? [];
}

export type Standing = ReturnType<typeof labelsOf>[number];

export function byHand(data: CaseOut, piece: string): Record<string, ByHand> {
  return (detailOf(data, "label", piece)?.settings.labels ?? {}) as Record<string, ByHand>;
}

/** The entry that holds a label, where there is one: an added label's own, or the one that moves another. */
export function entryOf(data: CaseOut, piece: string, name: string): string {
  const entries = byHand(data, piece);
  return name in entries ? name : (Object.keys(entries).find((id) => entries[id]?.name === name) ?? "");
}

const NONE: ByHand = { name: "", kind: "text", pattern: "", at: null, turn_deg: 0, tall_mm: null };

/** Something of one label changed, the rest as it is. */
export function change(doings: Doings, piece: string, name: string, with_: Partial<ByHand>) {
  const kind = name === "code" || name === "mark" ? name : "text";
  doings.entryNow("label", piece, ["labels"], (now) => {
    const id = entryOf(now, piece, name);
    const before = byHand(now, piece)[id] ?? { ...NONE, name: kind, kind };
    return { id, value: { ...before, ...with_ } };
  });
}

export function add(doings: Doings, piece: string, kind: ByHand["kind"]) {
  const pattern = kind === "text" ? "{date}" : "";
  doings.entry("label", piece, ["labels"], "", { ...NONE, kind, pattern });
}

/** From the label's own axes (along, up, out of the body) to the jaw's home. */
export function axesOf(middle: Point, along: Point, up: Point): Matrix4 {
  const x = new Vector3(...along);
  const y = new Vector3(...up);
  const z = new Vector3().crossVectors(x, y);
  return new Matrix4().makeBasis(x, y, z).setPosition(new Vector3(...middle));
}

// Over its letters, so that none is hidden.
const BALL_OVER_MM = 1.6;

/** Where the ball of a label is, in the jaw's home. */
export function ballOf(label: Standing): Point {
  const far = label.height_mm / 2 + BALL_OVER_MM;
  return label.middle.map((mm, k) => mm + far * (label.up[k] ?? 0)) as Point;
}

type Wall = NonNullable<ReturnType<typeof wallOf>>;

export function wallOf(data: CaseOut, piece: string) {
  return goodOf(data, "label", piece)?.wall ?? null;
}

/** Where a label that is pulled to a place (home) will stand: on the wall next to it, as high up, turned as it is. */
export function pulledAxes(wall: Wall | null, label: Standing, to: Point): { at: Point; axes: Matrix4 } {
  const still = onPlane(label, to);
  if (!wall || label.where !== "on the wall") return still;
  const up = new Vector3(...wall.up);
  const place = new Vector3(...to);
  const flat = (v: Vector3) => v.clone().addScaledVector(up, -v.dot(up));
  const here = flat(place);
  let best = -1;
  let least = Number.POSITIVE_INFINITY;
  wall.foot.forEach((foot, k) => {
    const far = flat(new Vector3(...foot)).distanceToSquared(here);
    if (far < least) {
      least = far;
      best = k;
    }
  });
  const foot = wall.foot[best];
  const out = wall.out[best];
  if (!foot || !out) return still;
  const base = new Vector3(...foot);
  const at = base.addScaledVector(up, Math.max(place.dot(up) - base.dot(up), 0));
  const z = new Vector3(...out).normalize();
  const level = new Vector3().crossVectors(up, z).normalize();
  const straight = new Vector3().crossVectors(z, level);
  const turn = (label.turn_deg * Math.PI) / 180;
  const x = level.clone().multiplyScalar(Math.cos(turn)).addScaledVector(straight, Math.sin(turn));
  const point: Point = [at.x, at.y, at.z];
  return { at: point, axes: axesOf(point, [x.x, x.y, x.z], cross(z, x)) };
}

/** In the plane the label stands in. */
function onPlane(label: Standing, to: Point): { at: Point; axes: Matrix4 } {
  const normal = new Vector3().crossVectors(new Vector3(...label.along), new Vector3(...label.up)).normalize();
  const v = new Vector3(...to);
  v.addScaledVector(normal, new Vector3(...label.middle).sub(v).dot(normal));
  const at: Point = [v.x, v.y, v.z];
  return { at, axes: axesOf(at, label.along, label.up) };
}

function cross(a: Vector3, b: Vector3): Point {
  const v = new Vector3().crossVectors(a, b);
  return [v.x, v.y, v.z];
}
