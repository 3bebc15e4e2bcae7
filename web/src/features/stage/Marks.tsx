import type { Focus, Point } from "../../store/bench";
import { Line as LineOf } from "./Line";
import { BALL, ink } from "./plaster";

/** Small bodies that mark places: gauge ends, the place of a flag. */
export function Marks({ gauge, focus }: { gauge: Point[]; focus: Focus | null }) {
  return (
    <>
      {gauge.map((p) => (
        <mesh
          key={p.join()}
          position={p}
          renderOrder={5}
          material={ink("#17282b")}
          dispose={null}
          geometry={BALL}
          scale={0.45}
        />
      ))}
      {gauge.length === 2 && <LineOf points={gauge} color="#17282b" />}
      {focus && (
        <mesh
          position={focus.point}
          renderOrder={5}
          material={ink("#8a3b12", { opacity: 0.32 })}
          dispose={null}
          geometry={BALL}
          scale={Math.max(focus.radius, 0.8)}
        />
      )}
    </>
  );
}

/** The marks of Level as they are set. */
export function PlaneMarks({ points }: { points: Point[] }) {
  return <Balls points={points} colour="#c2410c" radius={1} />;
}

/** Where the swab has been in the stroke that is being made. */
export function SwabTrail({ points, radius, adds }: { points: Point[]; radius: number; adds: boolean }) {
  return <Balls points={points} colour={adds ? "#a3172a" : "#1d6b5e"} radius={radius} opacity={0.3} />;
}

function Balls({
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
