import { Type } from "lucide-react";
import { Vector3 } from "three";
import { goodOf, pieceOf } from "../../case/look";
import {
  type At,
  bodiesScene,
  type Drawing,
  fromStage,
  Label,
  PulledBall,
  type Shown,
  type StepUi,
  shownOf,
  type Tool,
  toStage,
  useLeft,
} from "../../stage";
import type { Point } from "../../store/bench";
import { Ghost } from "./Ghost";
import { LabelList } from "./List";
import { axesOf, ballOf, change, labelsOf, pulledAxes, type Standing, wallOf } from "./labels";
import { usePicked } from "./picked";

const round = (at: Point) => at.map((mm) => Math.round(mm * 100) / 100) as Point;

const place: Tool = {
  id: "place-label",
  title: "Place",
  long: "Place: choose where on the wall or underneath the label stands",
  keys: "q",
  icon: Type,
  hint: "Press where the middle of the label shall be. Where there is no room it goes as near as it can.",
  here: ({ data }) => data.pieces.some((p) => labelsOf(data, p.id).length > 0),
  picks: true,
  onPick: ({ doings, data }, shown, home) => {
    const { piece, name } = usePicked.getState();
    const first = labelsOf(data, shown.piece)[0]?.name ?? "text";
    change(doings, shown.piece, piece === shown.piece && name ? name : first, { at: round(home) });
  },
};

/** Which way a label looks, on the stage. */
function outOf(ui: StepUi, at: At, piece: string, label: Standing): Point {
  const axes = axesOf(label.middle, label.along, label.up);
  const far = new Vector3(0, 0, 1).applyMatrix4(axes);
  const [a, b] = [label.middle, [far.x, far.y, far.z] as Point].map((p) => new Vector3(...toStage(ui, at, piece, p)));
  const out = (b ?? new Vector3()).sub(a ?? new Vector3());
  return [out.x, out.y, out.z];
}

/** The text of each label that looks away, so that it is found on the far side too. */
function Words({ data, view, ui }: Drawing) {
  const left = useLeft();
  return (
    <>
      {data.pieces
        .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
        .flatMap((p) =>
          labelsOf(data, p.id).map((label) =>
            pieceOf(data, p.id) && left(toStage(ui, { data, view }, p.id, label.middle)) ? (
              <Label
                key={`${p.id} ${label.name}`}
                at={toStage(ui, { data, view }, p.id, ballOf(label))}
                out={outOf(ui, { data, view }, p.id, label)}
              >
                <span data-testid={label.name === "text" ? `label-${p.jaw}` : `label-${p.jaw}-${label.name}`}>
                  {label.kind === "text" ? label.text : label.kind === "code" ? `code ${label.text}` : label.text}
                </span>
              </Label>
            ) : null,
          ),
        )}
    </>
  );
}

/** A ball at the middle of each label, by which it is pulled along the wall; its letters go with it. */
function Draws(drawing: Drawing) {
  const { data, view, ui, doings, hold } = drawing;
  const at = { data, view };
  const left = useLeft();
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .flatMap((p) =>
      labelsOf(data, p.id)
        .filter((l) => left(toStage(ui, at, p.id, l.middle)))
        .map((label) => {
          const rest = toStage(ui, at, p.id, ballOf(label));
          const home = (stage: Point) => {
            const to = fromStage(ui, at, p.id, stage);
            const ball = ballOf(label);
            const middle = to?.map((mm, k) => mm - ((ball[k] ?? 0) - (label.middle[k] ?? 0))) as Point | undefined;
            return middle && pulledAxes(wallOf(data, p.id), label, middle);
          };
          return (
            <PulledBall
              key={`${p.id} ${label.name}`}
              name={label.name === "text" ? `label-${p.jaw}` : `label-${p.jaw}-${label.name}`}
              at={rest}
              colour="#1d6b5e"
              radius={0.9}
              along="view"
              onHold={hold}
              onPut={(stage) => {
                const to = home(stage);
                if (to) change(doings, p.id, label.name, { at: round(to.at) });
              }}
            >
              {(seen) => {
                const to = seen === rest ? null : home(seen);
                return to && <Ghost drawing={drawing} piece={p.id} label={label} axes={to.axes} />;
              }}
            </PulledBall>
          );
        }),
    );
}

const label: StepUi = {
  name: "label",
  tools: [place],
  Draws,
  hint: "Pull a label by its ball along the wall.",
  Words,
  Below: LabelList,
};

/** The letters stand there as soon as they are worked out, before they are in the body. */
label.scene = (at): Shown[] =>
  bodiesScene(label)(at).flatMap((shown) => {
    const piece = shown.role === "body" ? pieceOf(at.data, shown.piece) : null;
    const letters = piece && goodOf(at.data, "label", piece.id)?.letters;
    return piece && letters
      ? [shown, shownOf(at, label, piece, { digest: letters, role: "letters", drawn: "letters" })]
      : [shown];
  });

export default label;
