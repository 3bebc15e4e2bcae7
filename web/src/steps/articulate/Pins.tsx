import { useEffect, useMemo, useState } from "react";
import { goodOf, type NodeOf } from "../../case/look";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { type Drawing, fromStage, Line, PulledBall, toStage } from "../../stage";
import type { Point } from "../../store/bench";
import { usePulledPin } from "./pulled";
import { whyNot } from "./room";

export type Pin = NonNullable<NonNullable<NodeOf<"articulate">["good"]>["pins"]>[number];

const COLOUR = "#a9852f";

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
        {(seen) => (
          <>
            <Told drawing={drawing} at={seen} rest={at} lower={lower.id} />
            <Ring at={seen} radius={pin.post_mm / 2} deep={pin.deep_mm} />
          </>
        )}
      </PulledBall>
    );
  });
}

/** While it is pulled: can a pin stand here? Told from the map that the step has made, so at once. */
function Told({ drawing, at, rest, lower }: { drawing: Drawing; at: Point; rest: Point; lower: string }) {
  const room = goodOf(drawing.data, "articulate")?.room;
  const home = fromStage(drawing.ui, drawing, lower, at);
  const pulled = at.some((x, axis) => x !== rest[axis]);
  const why = room && home && pulled ? whyNot(room, home) : null;
  const [x, y, z] = at;
  useEffect(() => {
    if (why !== null) usePulledPin.setState({ at: [x, y, z], why });
    return () => usePulledPin.setState({ at: null, why: "" });
  }, [x, y, z, why]);
  return null;
}

/** The post's outline at the seat, and the pin under it. */
function Ring({ at, radius, deep }: { at: Point; radius: number; deep: number }) {
  const [x, y, z] = at;
  const points = useMemo<Point[]>(
    () =>
      Array.from({ length: 33 }, (_, k) => [
        x + radius * Math.cos((k / 16) * Math.PI),
        y + radius * Math.sin((k / 16) * Math.PI),
        z,
      ]),
    [x, y, z, radius],
  );
  const axis = useMemo<Point[]>(
    () => [
      [x, y, z - deep],
      [x, y, z + deep],
    ],
    [x, y, z, deep],
  );
  return (
    <>
      <Line points={points} color={COLOUR} />
      <Line points={axis} color={COLOUR} />
    </>
  );
}
