import { useEffect, useMemo } from "react";
import { BufferGeometry, Float32BufferAttribute, LineSegments, Vector3 } from "three";
import { ink } from "./plaster";

interface Props {
  points: [number, number, number][];
  color: string;
  /** Draw each pair as a segment of its own instead of one path. */
  pairs?: boolean;
  hidden?: boolean;
}

/** Thin ink lines; on top of the models unless hidden by them. */
export function Line({ points, color, pairs = false, hidden = false }: Props) {
  const object = useMemo(() => {
    const list = pairs ? points : points.slice(1).flatMap((p, i) => [points[i] as [number, number, number], p]);
    const geometry = new BufferGeometry().setFromPoints(list.map((p) => new Vector3(...p)));
    // The program is chosen by what a geometry has: with normals it is the one that draws the models.
    geometry.setAttribute("normal", new Float32BufferAttribute(new Float32Array(list.length * 3), 3));
    const line = new LineSegments(geometry, ink(color, { lies: hidden ? "sheet" : "over" }));
    line.renderOrder = 4;
    line.raycast = () => {};
    return line;
  }, [points, color, pairs, hidden]);
  useEffect(() => () => object.geometry.dispose(), [object]);
  return <primitive object={object} />;
}
