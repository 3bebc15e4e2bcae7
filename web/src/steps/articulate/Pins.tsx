import type { ThreeEvent } from "@react-three/fiber";
import { useMemo, useRef, useState } from "react";
import { Plane, Vector3 } from "three";
import { goodOf, type NodeOf } from "../../case/look";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { BALL, type Drawing, ink, Line, toStage } from "../../stage";
import type { Point } from "../../store/bench";

export type Pin = NonNullable<NonNullable<NodeOf<"articulate">["good"]>["pins"]>[number];

const COLOUR = "#a9852f";
const POST_MM = 3;
const DEEP_MM = 6;

export function lowerOf(data: CaseOut): PieceOut | undefined {
  return data.pieces.find((p) => p.jaw === "lower");
}

/** A ball at the seat of every pin; pulled, a ring shows where its post will stand. */
export function PinHandles({
  drawing,
  pins,
  onPut,
}: {
  drawing: Drawing;
  pins: Pin[];
  onPut: (pin: Pin, stage: Vector3) => void;
}) {
  const { data, view, ui } = drawing;
  const lower = lowerOf(data);
  // Where a pin that was let go was put, until the step has answered.
  const known = goodOf(data, "articulate")?.pins;
  const [put, setPut] = useState<{ pin: string; at: Point; of: typeof known } | null>(null);
  if (!lower) return null;
  return pins.map((pin) => {
    const own = toStage(ui, { data, view }, lower.id, pin.at_mm);
    const name = pin.entry || pin.zone;
    const at = put?.pin === name && put.of === known ? put.at : own;
    return (
      <Handle
        key={name}
        name={name}
        at={at}
        drawing={drawing}
        onPut={(stage) => {
          setPut({ pin: name, at: [stage.x, stage.y, stage.z], of: known });
          onPut(pin, stage);
        }}
      />
    );
  });
}

function Handle({
  name,
  at,
  drawing,
  onPut,
}: {
  name: string;
  at: Point;
  drawing: Drawing;
  onPut: (stage: Vector3) => void;
}) {
  const [pulled, setPulled] = useState<Point | null>(null);
  const held = useRef<Vector3 | null>(null);
  const [x, y, z] = pulled ?? at;

  /** Under the pointer on the level of the seat. */
  function level(event: ThreeEvent<PointerEvent>): Vector3 | null {
    return event.ray.intersectPlane(new Plane(new Vector3(0, 0, 1), -at[2]), new Vector3());
  }

  function end(event: ThreeEvent<PointerEvent>, keep: boolean) {
    if (!held.current) return;
    event.stopPropagation();
    const now = pulled;
    held.current = null;
    setPulled(null);
    drawing.hold(false);
    if (keep && now && Math.hypot(now[0] - at[0], now[1] - at[1]) > 0.05) onPut(new Vector3(...now));
  }

  return (
    <>
      <Ring at={[x, y, z]} />
      <mesh
        name={`pin-${name}`}
        position={[x, y, z]}
        renderOrder={5}
        material={ink(COLOUR)}
        dispose={null}
        geometry={BALL}
        scale={1.9}
        onPointerDown={(e) => {
          const from = level(e);
          if (!from) return;
          e.stopPropagation();
          (e.target as Element).setPointerCapture(e.pointerId);
          held.current = from.sub(new Vector3(...at));
          drawing.hold(true);
        }}
        onPointerMove={(e) => {
          const now = held.current && level(e);
          if (!held.current || !now) return;
          e.stopPropagation();
          now.sub(held.current);
          setPulled([now.x, now.y, at[2]]);
        }}
        onPointerUp={(e) => end(e, true)}
        onPointerCancel={(e) => end(e, false)}
      />
    </>
  );
}

/** The post's outline at the seat, and the pin under it. */
function Ring({ at }: { at: Point }) {
  const [x, y, z] = at;
  const points = useMemo<Point[]>(
    () =>
      Array.from({ length: 33 }, (_, k) => [
        x + POST_MM * Math.cos((k / 16) * Math.PI),
        y + POST_MM * Math.sin((k / 16) * Math.PI),
        z,
      ]),
    [x, y, z],
  );
  const axis = useMemo<Point[]>(
    () => [
      [x, y, z - DEEP_MM],
      [x, y, z + DEEP_MM],
    ],
    [x, y, z],
  );
  return (
    <>
      <Line points={points} color={COLOUR} />
      <Line points={axis} color={COLOUR} />
    </>
  );
}
