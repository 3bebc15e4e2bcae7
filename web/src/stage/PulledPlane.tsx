import { type ThreeEvent, useThree } from "@react-three/fiber";
import { useMemo, useRef } from "react";
import { Plane, Quaternion, Vector3 } from "three";
import { type Point, useBench } from "../store/bench";
import { Drag } from "./drag";
import { Line } from "./Line";
import { ink, SQUARE } from "./plaster";

interface Props {
  name: string;
  /** The middle of the frame, and the direction it is pulled along, on the stage. */
  middle: Vector3;
  along: Vector3;
  size: [number, number];
  colour: string;
  /** Where it stands along its direction (mm). */
  mm: number;
  onPull: (mm: number, last: boolean) => void;
  onHold: (held: boolean) => void;
}

/** A plane as a frame that is pulled along its axis. */
export function PulledPlane({ name, middle, along, size, colour, mm, onPull, onHold }: Props) {
  const camera = useThree((s) => s.camera);
  const held = useRef<{ from: number; mm: number; drag: Drag } | null>(null);
  const turn = useMemo(() => new Quaternion().setFromUnitVectors(new Vector3(0, 0, 1), along), [along]);

  /** How far along the axis the pointer is, in mm, on the plane through the axis that faces the eye. */
  function place(event: ThreeEvent<PointerEvent>): number | null {
    const eye = camera.position.clone().sub(middle);
    const normal = eye.addScaledVector(along, -eye.dot(along)).normalize();
    const facing = new Plane().setFromNormalAndCoplanarPoint(normal, middle);
    return event.ray.intersectPlane(facing, new Vector3())?.dot(along) ?? null;
  }

  function pull(event: ThreeEvent<PointerEvent>, last: boolean) {
    if (!held.current) return;
    event.stopPropagation();
    const { drag } = held.current;
    if (!drag.moved(event)) return;
    if (last && !drag.counts(event)) {
      // It ends where it began: as if nobody had pulled.
      onPull(held.current.mm, false);
      useBench.getState().tryValues(null);
      return;
    }
    const now = place(event);
    if (now !== null) onPull(Math.round((held.current.mm + now - held.current.from) * 100) / 100, last);
  }

  const [w, h] = size;
  const corners = useMemo<Point[]>(
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
    <group position={middle} quaternion={turn}>
      <mesh
        renderOrder={3}
        name={name}
        material={ink(colour, { opacity: 0.13, lies: "sheet" })}
        dispose={null}
        geometry={SQUARE}
        scale={[w, h, 1]}
        onPointerDown={(e) => {
          const from = place(e);
          if (from === null) return;
          e.stopPropagation();
          (e.target as Element).setPointerCapture(e.pointerId);
          held.current = { from, mm, drag: new Drag(e) };
          onHold(true);
        }}
        onPointerMove={(e) => pull(e, false)}
        onPointerUp={(e) => {
          pull(e, true);
          held.current = null;
          onHold(false);
        }}
        onPointerCancel={() => {
          if (held.current?.drag.going) onPull(held.current.mm, false);
          useBench.getState().tryValues(null);
          held.current = null;
          onHold(false);
        }}
      />
      <Line points={corners} color={colour} />
    </group>
  );
}
