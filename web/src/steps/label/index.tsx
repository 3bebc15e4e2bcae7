import { Type } from "lucide-react";
import { goodOf, pieceOf } from "../../case/look";
import { type Drawing, Label, type StepUi, type Tool, toStage } from "../../stage";

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
              {label.text}
            </Label>
          ) : null;
        })}
    </>
  );
}

const label: StepUi = {
  name: "label",
  tools: [place],
  Words,
};

export default label;
