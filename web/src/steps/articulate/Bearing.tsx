import { goodOf } from "../../case/look";
import { type Drawing, Label, Line, toStage } from "../../stage";
import type { Point } from "../../store/bench";

const COLOUR = "#8a3b12";

type Face = { piece: string; outline: Point[] };

const facesOf = ({ data }: Drawing): Face[] => goodOf(data, "articulate")?.bearing ?? [];

/** Round each face that lies on a block of the articulator a line. */
export function BearingLines(drawing: Drawing) {
  const { data, view, ui } = drawing;
  return facesOf(drawing).map(({ piece, outline }) => {
    const on = outline.map((p) => toStage(ui, { data, view }, piece, p));
    return <Line key={piece} points={[...on, ...on.slice(0, 1)]} color={COLOUR} />;
  });
}

/** What these faces are, at the frontmost place of each. */
export function BearingWords(drawing: Drawing) {
  const { data, view, ui } = drawing;
  return facesOf(drawing).map(({ piece, outline }) => {
    const on = outline.map((p) => toStage(ui, { data, view }, piece, p));
    const front = on.reduce((best, p) => (p[1] < best[1] ? p : best), on[0] ?? [0, 0, 0]);
    return (
      <Label key={piece} at={front}>
        <span className="text-xs">lies on the block: no tips, letters, drains</span>
      </Label>
    );
  });
}
