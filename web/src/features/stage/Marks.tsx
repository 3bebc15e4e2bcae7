import type { Focus, Point } from "../../store/bench";
import { Line as LineOf } from "./Line";

/** Small bodies that mark places: gauge ends, the place of a flag. */
export function Marks({ gauge, focus }: { gauge: Point[]; focus: Focus | null }) {
  return (
    <>
      {gauge.map((p) => (
        <mesh key={p.join()} position={p} renderOrder={5}>
          <sphereGeometry args={[0.45, 16, 12]} />
          <meshBasicMaterial color="#17282b" depthTest={false} transparent />
        </mesh>
      ))}
      {gauge.length === 2 && <LineOf points={gauge} color="#17282b" />}
      {focus && (
        <mesh position={focus.point} renderOrder={5}>
          <sphereGeometry args={[Math.max(focus.radius, 0.8), 24, 18]} />
          <meshBasicMaterial color="#8a3b12" transparent opacity={0.32} depthTest={false} depthWrite={false} />
        </mesh>
      )}
    </>
  );
}
