import { Type } from "lucide-react";
import { goodOf, pieceOf } from "../../case/look";
import { type Drawing, fromStage, Label, PulledBall, type StepUi, type Tool, toStage } from "../../stage";

const place: Tool = {
  id: "place-label",
  title: "Place",
  long: "Place: choose where on the wall the label stands",
  keys: "q",
  icon: Type,
  hint: "Press on the wall where the middle of the label shall be. Where there is no room it goes where there is.",
  picks: true,
  onPick: ({ doings }, shown, home) => {
    const [x, y, z] = home.map((mm) => Math.round(mm * 100) / 100);
    doings.set("label", shown.piece, { at: [x, y, z] });
  },
};

/** The text over each label, so that it is found on the far side too. */
function Words({ data, view, ui }: Drawing) {
  return (
    <>
      {data.pieces
        .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
        .map((p) => {
          const label = goodOf(data, "label", p.id)?.label;
          return label?.middle && pieceOf(data, p.id) ? (
            <Label key={p.id} at={toStage(ui, { data, view }, p.id, label.middle)}>
              <span data-testid={`label-${p.jaw}`}>{label.text}</span>
            </Label>
          ) : null;
        })}
    </>
  );
}

/** A ball at the middle of each label, by which it is pulled along the wall. */
function Draws(drawing: Drawing) {
  const { data, view, ui, doings, hold } = drawing;
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .map((p) => {
      const middle = goodOf(data, "label", p.id)?.label?.middle;
      return middle ? (
        <PulledBall
          key={p.id}
          name={`label-${p.jaw}`}
          at={toStage(ui, { data, view }, p.id, middle)}
          colour="#1d6b5e"
          radius={1.1}
          along="view"
          onHold={hold}
          onPut={(stage) => {
            const at = fromStage(ui, { data, view }, p.id, stage);
            if (at) doings.set("label", p.id, { at });
          }}
        />
      ) : null;
    });
}

const label: StepUi = {
  name: "label",
  tools: [place],
  Draws,
  hint: "Pull a label by its ball along the wall.",
  Words,
};

export default label;
