import { useFrame } from "@react-three/fiber";
import { useMemo, useRef } from "react";
import type { Mesh } from "three";
import type { Point } from "../store/bench";
import { Line } from "./Line";
import { ink, SQUARE } from "./plaster";

/** The build plate: outline, centimetre grid, z = 0. */
export function BuildPlate({ width, depth }: { width: number; depth: number }) {
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
  const sheet = useRef<Mesh>(null);
  // From below one looks through it, at what lies and stands on it.
  useFrame(({ camera }) => {
    if (sheet.current) sheet.current.visible = camera.position.z > 0;
  });
  return (
    <>
      <mesh
        ref={sheet}
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
