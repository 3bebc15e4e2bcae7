import { Vector3 } from "three";
import type { CaseOut } from "../../shared/api/client";
import type { Pair } from "../../store/bench";
import { BALL, ink } from "./plaster";
import { placeOf } from "./scene";

/** One colour a pair; the list on the card shows the same beside its number. */
export const PAIR_COLOURS = ["#c2410c", "#1d4ed8", "#047857", "#7e22ce", "#a16207", "#be123c", "#0e7490", "#4d7c0f"];

export function colourOf(number: number): string {
  return PAIR_COLOURS[number % PAIR_COLOURS.length] ?? "#17282b";
}

/** The marks of a bite scan, on it and on the jaws. */
export function Pairs({
  data,
  piece,
  pairs,
  current,
}: {
  data: CaseOut;
  piece: string;
  pairs: Pair[];
  current: number;
}) {
  const balls = pairs.flatMap((pair, number) => {
    const size = number === current ? 0.9 : 0.6;
    const jaw = data.pieces.find((p) => p.jaw === pair.jaw);
    const bite = data.pieces.find((p) => p.id === piece);
    const out: { key: string; at: [number, number, number]; layer: number; number: number; size: number }[] = [];
    if (pair.bite && bite) out.push({ key: `${number}b`, at: on(data, bite, pair.bite), layer: 1, number, size });
    if (pair.at && jaw) out.push({ key: `${number}j`, at: on(data, jaw, pair.at), layer: 0, number, size });
    return out;
  });
  return (
    <>
      {balls.map((b) => (
        <mesh
          key={b.key}
          position={b.at}
          layers={b.layer}
          renderOrder={5}
          raycast={() => {}}
          material={ink(colourOf(b.number))}
          dispose={null}
          geometry={BALL}
          scale={b.size}
        />
      ))}
    </>
  );
}

function on(
  data: CaseOut,
  piece: CaseOut["pieces"][number],
  point: [number, number, number],
): [number, number, number] {
  const p = new Vector3(...point).applyMatrix4(placeOf(data, piece, "bite"));
  return [p.x, p.y, p.z];
}
