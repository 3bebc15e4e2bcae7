import { useEffect, useMemo } from "react";
import { BufferGeometry, Float32BufferAttribute, Vector3 } from "three";
import type { Point } from "../store/bench";
import { ink } from "./plaster";

/** A closed line on a surface; each point says whether the stretch after it is drawn dotted. */
export interface Ring {
  points: Point[];
  dotted: boolean[];
}

const INK_MM = 0.09;
const CASING_MM = 0.2;
const SIDES = 4;

/** Ink lines with a light casing along surfaces; what lies behind a surface is not seen. */
export function Rings({ rings, colour = "#17282b" }: { rings: Ring[]; colour?: string }) {
  const shapes = useMemo(() => [tubes(rings, CASING_MM), tubes(rings, INK_MM)] as const, [rings]);
  useEffect(
    () => () => {
      for (const shape of shapes) shape.dispose();
    },
    [shapes],
  );
  return (
    <>
      <mesh geometry={shapes[0]} material={ink("#f4f6f4", { lies: "sheet" })} renderOrder={3} raycast={none} />
      <mesh geometry={shapes[1]} material={ink(colour, { lies: "sheet" })} renderOrder={4} raycast={none} />
    </>
  );
}

const none = () => {};

/** Every stretch that is drawn as a prism round it: one geometry for all. */
function tubes(rings: Ring[], radius: number): BufferGeometry {
  const at: number[] = [];
  const index: number[] = [];
  for (const { points, dotted } of rings) {
    const corners = points.map((p, i) => around(points, p, i, radius));
    for (let i = 0; i < points.length; i++) {
      if (dotted[i] && i % 4 > 1) continue;
      const ends = [corners[i], corners[(i + 1) % points.length]];
      const first = at.length / 3;
      for (const end of ends) for (const corner of end ?? []) at.push(corner.x, corner.y, corner.z);
      for (let s = 0; s < SIDES; s++) {
        const next = (s + 1) % SIDES;
        index.push(first + s, first + next, first + SIDES + s, first + next, first + SIDES + next, first + SIDES + s);
      }
    }
  }
  const geometry = new BufferGeometry();
  geometry.setAttribute("position", new Float32BufferAttribute(at, 3));
  // The program is chosen by what a geometry has: with normals it is the one that draws the models.
  geometry.setAttribute("normal", new Float32BufferAttribute(new Float32Array(at.length), 3));
  geometry.setIndex(index);
  return geometry;
}

const UP = new Vector3(0, 0, 1);

function around(points: Point[], point: Point, i: number, radius: number): Vector3[] {
  const before = points[(i + points.length - 1) % points.length] ?? point;
  const after = points[(i + 1) % points.length] ?? point;
  const way = new Vector3(...after).sub(new Vector3(...before)).normalize();
  const side = new Vector3().crossVectors(way, UP);
  if (side.lengthSq() < 1e-6) side.set(1, 0, 0);
  side.normalize();
  const other = new Vector3().crossVectors(side, way);
  const middle = new Vector3(...point);
  return [side, other, side.clone().negate(), other.clone().negate()].map((v) =>
    middle.clone().addScaledVector(v, radius),
  );
}
