import { useEffect, useMemo } from "react";
import { BufferGeometry, LineBasicMaterial, LineSegments, Vector3 } from "three";

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
    const line = new LineSegments(geometry, new LineBasicMaterial({ color, depthTest: hidden, transparent: true }));
    line.renderOrder = 4;
    line.raycast = () => {};
    return line;
  }, [points, color, pairs, hidden]);
  useEffect(
    () => () => {
      object.geometry.dispose();
      (object.material as LineBasicMaterial).dispose();
    },
    [object],
  );
  return <primitive object={object} />;
}
