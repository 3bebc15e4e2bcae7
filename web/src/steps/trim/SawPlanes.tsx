import { type ThreeEvent, useThree } from "@react-three/fiber";
import { useMemo, useRef } from "react";
import { type Matrix4, Plane, Quaternion, Vector3 } from "three";
import { ink, Line, SQUARE } from "../../stage";
import type { SawName, Saws } from "./saws";

interface Props {
  saws: Saws;
  matrix: Matrix4;
  onPull: (which: SawName, mm: number, last: boolean) => void;
  onHold: (held: boolean) => void;
}

const SIZE: Record<SawName, [number, number]> = { bottom: [86, 74], back: [86, 36] };

/** Both saws as frames that are pulled along their axis. */
export function SawPlanes({ saws, matrix, onPull, onHold }: Props) {
  return (
    <>
      {(["bottom", "back"] as const)
        .filter((name) => saws[name].on)
        .map((name) => (
          <SawPlane key={name} name={name} saws={saws} matrix={matrix} onPull={onPull} onHold={onHold} />
        ))}
    </>
  );
}

function SawPlane({ name, saws, matrix, onPull, onHold }: Props & { name: SawName }) {
  const saw = saws[name];
  const camera = useThree((s) => s.camera);
  const held = useRef<{ from: number; mm: number } | null>(null);
  const place = useMemo(() => {
    const keep = new Vector3(...saw.keep).transformDirection(matrix);
    const point = new Vector3(...saw.point).applyMatrix4(matrix);
    const other = saws[name === "bottom" ? "back" : "bottom"];
    // The frame stands over the arch: the bottom one reaches from the incisors back, the upright one up from the gum.
    const shift =
      name === "bottom"
        ? new Vector3(...other.keep).transformDirection(matrix).multiplyScalar(-28)
        : new Vector3(...other.keep).transformDirection(matrix).multiplyScalar(-9);
    const turn = new Quaternion().setFromUnitVectors(new Vector3(0, 0, 1), keep);
    return { keep, point, middle: point.clone().add(shift), turn };
  }, [saw, saws, name, matrix]);

  /** How far along the saw's axis the pointer is, in mm, on the plane through the axis that faces the eye. */
  function along(event: ThreeEvent<PointerEvent>): number | null {
    const eye = camera.position.clone().sub(place.middle);
    const normal = eye.addScaledVector(place.keep, -eye.dot(place.keep)).normalize();
    const hit = event.ray.intersectPlane(
      new Plane().setFromNormalAndCoplanarPoint(normal, place.middle),
      new Vector3(),
    );
    return hit ? -hit.dot(place.keep) : null;
  }

  function pull(event: ThreeEvent<PointerEvent>, last: boolean) {
    if (!held.current) return;
    event.stopPropagation();
    const now = along(event);
    if (now !== null) onPull(name, Math.round((held.current.mm + now - held.current.from) * 100) / 100, last);
  }

  const [w, h] = SIZE[name];
  const corners = useMemo<[number, number, number][]>(
    () => [
      [-w / 2, -h / 2, 0],
      [w / 2, -h / 2, 0],
      [w / 2, h / 2, 0],
      [-w / 2, h / 2, 0],
      [-w / 2, -h / 2, 0],
    ],
    [w, h],
  );
  return (
    <group position={place.middle} quaternion={place.turn}>
      <mesh
        renderOrder={3}
        name={`saw-${name}`}
        material={ink("#8a3b12", { opacity: 0.13, lies: "sheet" })}
        dispose={null}
        geometry={SQUARE}
        scale={[w, h, 1]}
        onPointerDown={(e) => {
          const from = along(e);
          if (from === null) return;
          e.stopPropagation();
          (e.target as Element).setPointerCapture(e.pointerId);
          held.current = { from, mm: saw.mm };
          onHold(true);
        }}
        onPointerMove={(e) => pull(e, false)}
        onPointerUp={(e) => {
          pull(e, true);
          held.current = null;
          onHold(false);
        }}
      />
      <Line points={corners} color="#8a3b12" />
    </group>
  );
}
