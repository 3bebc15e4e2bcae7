import { type ThreeEvent, useThree } from "@react-three/fiber";
import { type ReactNode, useRef, useState } from "react";
import { Plane, Vector3 } from "three";
import type { Point } from "../store/bench";
import { Drag } from "./drag";
import { BALL, ink } from "./plaster";

interface Props {
  name: string;
  at: Point;
  colour: string;
  radius: number;
  /** It stays on its level, goes across the view, or up and down. */
  along: "level" | "view" | "up";
  onPut: (at: Point) => void;
  /** It was pressed and not pulled. */
  onPress?: () => void;
  onHold: (held: boolean) => void;
  /** Where it is while it is pulled; null: it was let go. */
  onPull?: (at: Point | null) => void;
  /** Drawn with it, where it is pulled to. */
  children?: (at: Point) => ReactNode;
}

const LEAST_MM = 0.05;

/** A ball that is pulled to another place; told where it was let go. */
export function PulledBall({ name, at, colour, radius, along, onPut, onPress, onHold, onPull, children }: Props) {
  const camera = useThree((s) => s.camera);
  const [pulled, setPulled] = useState<Point | null>(null);
  // Where it is now stands here too: a quick pull ends before it was drawn once.
  const held = useRef<{ off: Vector3; drag: Drag; to: Point | null } | null>(null);
  const seen = pulled ?? at;

  function under(event: ThreeEvent<PointerEvent>): Vector3 | null {
    const normal = along === "level" ? new Vector3(0, 0, 1) : camera.getWorldDirection(new Vector3());
    if (along === "up") normal.setZ(0).normalize();
    const plane = new Plane().setFromNormalAndCoplanarPoint(normal, new Vector3(...at));
    return event.ray.intersectPlane(plane, new Vector3());
  }

  function end(event: ThreeEvent<PointerEvent>, keep: boolean) {
    if (!held.current) return;
    event.stopPropagation();
    const { drag, to } = held.current;
    held.current = null;
    setPulled(null);
    onPull?.(null);
    onHold(false);
    if (!keep) return;
    if (!drag.going) onPress?.();
    else if (drag.counts(event) && to && new Vector3(...to).distanceTo(new Vector3(...at)) > LEAST_MM) onPut(to);
  }

  return (
    <>
      {children?.(seen)}
      <mesh
        name={name}
        position={seen}
        renderOrder={5}
        material={ink(colour)}
        dispose={null}
        geometry={BALL}
        scale={radius}
        onPointerDown={(e) => {
          const from = under(e);
          if (!from) return;
          e.stopPropagation();
          (e.target as Element).setPointerCapture(e.pointerId);
          held.current = { off: from.sub(new Vector3(...at)), drag: new Drag(e), to: null };
          onHold(true);
        }}
        onPointerMove={(e) => {
          const now = held.current && under(e);
          if (!held.current || !now) return;
          e.stopPropagation();
          if (!held.current.drag.moved(e)) return;
          now.sub(held.current.off);
          const to: Point = along === "up" ? [at[0], at[1], now.z] : [now.x, now.y, now.z];
          held.current.to = to;
          setPulled(to);
          onPull?.(to);
        }}
        onPointerUp={(e) => end(e, true)}
        onPointerCancel={(e) => end(e, false)}
      />
    </>
  );
}
