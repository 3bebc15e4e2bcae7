import { BALL, ink, Line, SQUARE } from "../../stage";
import type { Point } from "../../store/bench";

/** The occlusal plane as a sheet of glass at z = 0 of the bench, with a ring at the incisal point. */
export function Glass({ tips }: { tips: Point[] }) {
  return (
    <>
      <mesh
        position={[0, 24, 0]}
        renderOrder={3}
        raycast={() => {}}
        material={ink("#5f8f9c", { opacity: 0.22, lies: "sheet" })}
        dispose={null}
        geometry={SQUARE}
        scale={[82, 66, 1]}
      />
      <Line
        points={[
          [0, -9, 0],
          [0, 57, 0],
        ]}
        color="#17282b"
      />
      {tips.map((p) => (
        <mesh
          key={p.join()}
          position={p}
          renderOrder={4}
          raycast={() => {}}
          material={ink(Math.abs(p[2]) > 1 ? "#8a3b12" : "#17282b")}
          dispose={null}
          geometry={BALL}
          scale={0.5}
        />
      ))}
    </>
  );
}
