import { useMemo } from "react";
import { type Matrix4, Vector3 } from "three";
import { pieceOf } from "../../case/look";
import { type Drawing, Line, PulledPlane, placeOf } from "../../stage";
import type { Point } from "../../store/bench";
import { type Foot, inHome } from "./planes";

const SIZE: [number, number] = [86, 74];
// The middle of a frame lies so far behind the incisors.
const BEHIND_MM = 28;

interface PlaneProps {
  drawing: Drawing;
  piece: string;
  foot: Foot;
  name: string;
  height: number;
  colour: string;
  onPull: (mm: number, last: boolean) => void;
}

/** A level plane of a jaw, pulled away from its teeth or towards them; told how far from where it stood. */
export function LevelPlane({ drawing, piece, foot, name, height, colour, onPull }: PlaneProps) {
  const { data, view, ui } = drawing;
  const at = pieceOf(data, piece);
  const matrix = at && placeOf(ui, { data, view }, at);
  const place = useMemo(() => matrix && placed(foot, height, matrix), [foot, height, matrix]);
  if (!place) return null;
  return (
    <PulledPlane
      name={name}
      middle={place.middle}
      along={place.along}
      size={SIZE}
      colour={colour}
      mm={-height}
      onPull={onPull}
      onHold={drawing.hold}
    />
  );
}

function placed(foot: Foot, height: number, matrix: Matrix4) {
  return {
    // A hair off the face it stands for: two that lie in one flicker.
    middle: new Vector3(...inHome(foot, height - 0.08, 0, BEHIND_MM)).applyMatrix4(matrix),
    along: new Vector3(...foot.up).transformDirection(matrix).negate(),
  };
}

/** The outline of the foot on its plane: where the walls will meet it. */
export function Outline({
  drawing,
  piece,
  foot,
  rings,
  height,
}: {
  drawing: Drawing;
  piece: string;
  foot: Foot;
  rings: [number, number][][];
  height: number;
}) {
  const { data, view, ui } = drawing;
  const at = pieceOf(data, piece);
  const matrix = at && placeOf(ui, { data, view }, at);
  const lines = useMemo(
    () =>
      matrix
        ? rings.map((ring) =>
            [...ring, ...ring.slice(0, 1)].map(([x, y]) => {
              const v = new Vector3(...inHome(foot, height, x, y)).applyMatrix4(matrix);
              return [v.x, v.y, v.z] as Point;
            }),
          )
        : [],
    [rings, foot, height, matrix],
  );
  // biome-ignore lint/suspicious/noArrayIndexKey: rings have no names
  return lines.map((points, k) => <Line key={k} points={points} color="#17282b" />);
}
