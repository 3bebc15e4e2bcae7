import { Triangle } from "lucide-react";
import { create } from "zustand";
import { Balls, type Drawing, type Tool, toStage } from "../../stage";
import type { Point } from "../../store/bench";

/** The three marks as far as they are set, in the home of one jaw. */
const useMarks = create<{ on: string; points: Point[] }>(() => ({ on: "", points: [] }));
const none = () => useMarks.setState({ on: "", points: [] });

/** What they ask for, one after the other. */
const HINTS = [
  "Three marks on one jaw: press first between the incisal edges.",
  "Now on a cusp on the patient's left.",
  "Now on a cusp on the patient's right.",
];

function Draws({ data, view, ui }: Drawing) {
  const { on, points } = useMarks();
  return <Balls points={points.map((p) => toStage(ui, { data, view }, on, p))} colour="#c2410c" radius={1} />;
}

export const threeMarks: Tool = {
  id: "three-marks",
  title: "Three marks",
  long: "Three marks: level by points on a jaw",
  keys: "t",
  icon: Triangle,
  useHint: () => HINTS[useMarks((s) => s.points.length)] ?? "",
  picks: true,
  onPick: ({ doings }, shown, home) => {
    if (!shown.jaw) return;
    const { on, points } = useMarks.getState();
    const [front, left, right] = on === shown.piece ? [...points, home] : [home];
    if (front && left && right) {
      doings.set("level", "*", { marks: { on: shown.piece, front, left, right } });
      return none();
    }
    useMarks.setState({ on: shown.piece, points: [front, left].filter((p) => p !== undefined) });
  },
  Draws,
  drop: none,
};
