import { useMemo } from "react";
import { Line } from "./Line";
import { BALL, ink, SQUARE } from "./plaster";

type Point = [number, number, number];

/** The build plate: outline, centimetre grid, z = 0. */
export function Plate({ width, depth }: { width: number; depth: number }) {
  const grid = useMemo(() => {
    const out: Point[] = [];
    for (let x = 10; x < width; x += 10) out.push([x, 0, 0], [x, depth, 0]);
    for (let y = 10; y < depth; y += 10) out.push([0, y, 0], [width, y, 0]);
    return out;
  }, [width, depth]);
  const edge = useMemo<Point[]>(
    () => [
      [0, 0, 0],
      [width, 0, 0],
      [width, depth, 0],
      [0, depth, 0],
      [0, 0, 0],
    ],
    [width, depth],
  );
  return (
    <>
      <mesh
        position={[width / 2, depth / 2, -0.06]}
        raycast={() => {}}
        renderOrder={-1}
        material={ink("#b9c5c3", { lies: "solid" })}
        dispose={null}
        geometry={SQUARE}
        scale={[width, depth, 1]}
      />
      <Line points={grid} color="#a2b0ae" pairs hidden />
      <Line points={edge} color="#56686a" hidden />
    </>
  );
}

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
