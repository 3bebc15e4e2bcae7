import { Vector3 } from "three";
import { goodOf, pieceOf } from "../../case/look";
import { type At, type Bounds, type Drawing, placeOf, type StepUi, type Tool, unionOf } from "../../stage";
import { MARKS, type Pair, type Point, useBench } from "../../store/bench";
import { marksOf } from "./MarkList";
import { Pairs } from "./Pairs";
import { Split } from "./Split";

function withPair(pairs: Pair[], number: number, pair: Pair): Pair[] {
  if (number < 0) return pairs;
  const out = [...pairs];
  out[number] = pair;
  return out;
}

function halfOf(bounds: Record<string, Bounds>, piece: string, own: boolean): Bounds[] {
  return Object.entries(bounds)
    .filter(([key]) => (key.split("/")[0] === piece) === own)
    .map(([, found]) => found);
}

/** The middle, and a radius that keeps the corners in view from any side. */
function ball(bounds: Bounds[]): { centre: Vector3; radius: number } {
  const { centre, size } = unionOf(bounds);
  return { centre, radius: Math.max(Math.hypot(size.x, size.z), size.y) * 0.58 };
}

/** Where the surface of a bite scan looks to on the stage: there the eye stands. */
function outwards(ui: StepUi, at: At, id: string): Point {
  const piece = pieceOf(at.data, id);
  const about = goodOf(at.data, "intake", id)?.about;
  if (!piece || !about) return [0, -1, 0.2];
  if (piece.side) return [piece.side === "left" ? 1 : -1, -0.5, 0.1];
  const v = new Vector3(...about.up).transformDirection(placeOf(ui, at, piece));
  return [v.x, v.y, v.z];
}

function Draws({ data, view, ui, bounds }: Drawing) {
  const { marking } = view;
  if (!marking) return null;
  const at = { data, view };
  const kept = marksOf(data, marking.piece).map((m): Pair => m.pair);
  return (
    <>
      <Pairs
        at={at}
        ui={ui}
        piece={marking.piece}
        pairs={withPair(kept, marking.number, marking.pair)}
        current={marking.number}
      />
      <Split
        left={{ layer: 0, ...ball(halfOf(bounds, marking.piece, false)), eye: [0.3, -1, 0.32] }}
        right={{ layer: 1, ...ball(halfOf(bounds, marking.piece, true)), eye: outwards(ui, at, marking.piece) }}
      />
    </>
  );
}

function Words() {
  return <div className="line absolute inset-y-0 left-1/2 border-l" />;
}

/** Matched points on a bite scan and on the jaws: taken up for one scan, from the card. */
export const marks: Tool = {
  id: MARKS.id,
  title: "Marks",
  long: "Marks: matched points on a bite scan and the jaws",
  keys: "",
  button: false,
  picks: true,
  onPick: ({ data, view, doings }, shown, home) => {
    const { marking } = view;
    if (!marking) return;
    const kept = marksOf(data, marking.piece);
    const number = marking.number < 0 ? kept.length : marking.number;
    const { setPair } = useBench.getState();
    const jaw = shown.jaw === "upper" || shown.jaw === "lower" ? shown.jaw : undefined;
    const pair: Pair = jaw ? { ...marking.pair, jaw, on: shown.piece, at: home } : { ...marking.pair, bite: home };
    if (!pair.bite || !pair.at || !pair.jaw) return setPair(number, pair);
    doings.entry("fit", "*", ["marks", marking.piece], kept[number]?.id ?? "", { ...pair });
    setPair(-1, {});
  },
  Draws,
  Words,
};
