import type { Focus, Point } from "../store/bench";
import { BALL, ink } from "./plaster";

/** The place of a flag. */
export function PlaceMark({ focus }: { focus: Focus | null }) {
  return (
    focus && (
      <mesh
        position={focus.point}
        renderOrder={5}
        material={ink("#8a3b12", { opacity: 0.32 })}
        dispose={null}
        geometry={BALL}
        scale={Math.max(focus.radius, 0.8)}
      />
    )
  );
}

/** Balls that mark places; nothing is picked on them. */
export function Balls({
  points,
  colour,
  radius,
  opacity = 1,
}: {
  points: Point[];
  colour: string;
  radius: number;
  opacity?: number;
}) {
  return points.map((p) => (
    <mesh
      key={p.join()}
      position={p}
      renderOrder={6}
      raycast={() => {}}
      material={ink(colour, { opacity })}
      dispose={null}
      geometry={BALL}
      scale={radius}
    />
  ));
}
