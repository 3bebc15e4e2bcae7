import { ArrowUpFromLine, PackageOpen } from "lucide-react";
import { useEffect } from "react";
import { Matrix4, Vector3 } from "three";
import { create } from "zustand";
import { type Drawing, Slide, type Tool, ToolPanel, toStage } from "../../stage";
import { useBench } from "../../store/bench";
import { areMade, diesOf, jawsOf, sayOf, takenOf, toothAt } from "./dies";

const MOST_MM = 25;

/** How far all dies are lifted out of the model on the stage. */
export const useLifted = create<{ mm: number }>(() => ({ mm: 0 }));

function Words(drawing: Drawing) {
  const { data, view, ui } = drawing;
  const { mm } = useLifted();
  const tryMove = useBench((s) => s.tryMove);
  const moves = jawsOf(data).flatMap((piece) =>
    diesOf(data, piece.id).map((die) => {
      const from = new Vector3(...toStage(ui, { data, view }, piece.id, [0, 0, 0]));
      const to = new Vector3(...toStage(ui, { data, view }, piece.id, die.way)).sub(from).multiplyScalar(mm);
      return { piece: `${piece.id}.${die.part}`, matrix: new Matrix4().makeTranslation(to).toArray() };
    }),
  );
  const said = JSON.stringify(moves);
  useEffect(() => {
    tryMove(JSON.parse(said));
  }, [said, tryMove]);
  useEffect(
    () => () => {
      tryMove(null);
      useLifted.setState({ mm: 0 });
    },
    [tryMove],
  );
  return (
    <ToolPanel name="Lift">
      <Slide
        label="Lifted"
        unit="mm"
        value={mm}
        least={0}
        most={MOST_MM}
        step={0.5}
        onSlide={(value) => useLifted.setState({ mm: value })}
      />
    </ToolPanel>
  );
}

export const lift: Tool = {
  id: "lift",
  title: "Lift",
  long: "Lift: dies out of the model and back",
  keys: "shift+v",
  icon: ArrowUpFromLine,
  hint: "Every die goes along its own way, out of its socket and back.",
  here: ({ data }) => jawsOf(data).some((p) => diesOf(data, p.id).length > 0),
  Words,
};

export const takeOut: Tool = {
  id: "take-out",
  title: "Take out",
  long: "Take out: choose teeth that come out of the model",
  keys: "shift+q",
  icon: PackageOpen,
  hint: "Press on a tooth: it becomes a die. Once more: it stays in the model.",
  here: ({ data }) => areMade(data),
  picks: true,
  onPick: ({ data, doings }, shown, home) => {
    const piece = shown.piece.split(".")[0] ?? "";
    const fdi = toothAt(data, piece, home);
    if (fdi === null) return;
    const said = Object.values(takenOf(data, piece)).find((t) => t.fdi === fdi);
    const out = said ? said.kind !== "left" : diesOf(data, piece).some((d) => d.fdi === fdi);
    sayOf(doings, piece, fdi, { kind: out ? "left" : "die" });
  },
};
