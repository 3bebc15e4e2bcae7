import { pieceOf } from "../../case/look";
import { type At, BALL, ink, type StepUi, toStage } from "../../stage";
import type { Pair, Point } from "../../store/bench";

/** One colour a pair; the list on the card shows the same beside its number. */
export const PAIR_COLOURS = ["#c2410c", "#1d4ed8", "#047857", "#7e22ce", "#a16207", "#be123c", "#0e7490", "#4d7c0f"];

export function colourOf(number: number): string {
  return PAIR_COLOURS[number % PAIR_COLOURS.length] ?? "#17282b";
}

/** The marks of a bite scan, on it and on the jaws. */
export function Pairs({
  at,
  ui,
  piece,
  pairs,
  current,
}: {
  at: At;
  ui: StepUi;
  piece: string;
  pairs: Pair[];
  current: number;
}) {
  const balls = pairs.flatMap((pair, number) => {
    const size = number === current ? 0.9 : 0.6;
    const jaw = at.data.pieces.find((p) => p.jaw === pair.jaw);
    const bite = pieceOf(at.data, piece);
    const out: { key: string; place: Point; layer: number; number: number; size: number }[] = [];
    if (pair.bite && bite)
      out.push({ key: `${number}b`, place: toStage(ui, at, bite.id, pair.bite), layer: 1, number, size });
    if (pair.at && jaw)
      out.push({ key: `${number}j`, place: toStage(ui, at, jaw.id, pair.at), layer: 0, number, size });
    return out;
  });
  return (
    <>
      {balls.map((b) => (
        <mesh
          key={b.key}
          position={b.place}
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
