import { useMemo, useState } from "react";
import { goodOf, type NodeOf } from "../../case/look";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { type Drawing, Line, PulledBall, toStage } from "../../stage";
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
  onPut: (pin: Pin, stage: Point) => void;
}) {
  const { data, view, ui } = drawing;
  const lower = lowerOf(data);
  // Where a pin that was let go was put, until the step has answered.
  const known = goodOf(data, "articulate")?.pins;
  const [put, setPut] = useState<{ pin: string; at: Point; of: typeof known } | null>(null);
  if (!lower) return null;
  return pins.map((pin) => {
    const name = pin.entry || pin.zone;
    const at = put?.pin === name && put.of === known ? put.at : toStage(ui, { data, view }, lower.id, pin.at_mm);
    return (
      <PulledBall
        key={name}
        name={`pin-${name}`}
        at={at}
        colour={COLOUR}
        radius={1.9}
        along="level"
        onHold={drawing.hold}
        onPut={(stage) => {
          setPut({ pin: name, at: stage, of: known });
          onPut(pin, stage);
        }}
      >
        {(seen) => <Ring at={seen} />}
      </PulledBall>
    );
  });
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
