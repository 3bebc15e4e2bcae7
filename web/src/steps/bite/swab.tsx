import { Brush } from "lucide-react";
import { create } from "zustand";
import { Balls, type Drawing, type Tool, toStage } from "../../stage";
import type { Point } from "../../store/bench";

const SWAB_MM = 1.5;
const MOST_POINTS = 2000;

/** The stroke that is being made, in the home of the scan it is on. */
const useStroke = create<{ piece: string; points: Point[]; adds: boolean }>(() => ({
  piece: "",
  points: [],
  adds: true,
}));
const none = () => useStroke.setState({ piece: "", points: [] });

function Draws({ data, view, ui }: Drawing) {
  const { piece, points, adds } = useStroke();
  return (
    <Balls
      points={points.map((p) => toStage(ui, { data, view }, piece, p))}
      colour={adds ? "#a3172a" : "#1d6b5e"}
      radius={SWAB_MM}
      opacity={0.3}
    />
  );
}

export const swab: Tool = {
  id: "swab",
  title: "Swab",
  long: "Swab: brush what has changed on a scan that follows",
  keys: "w",
  icon: Brush,
  hint: "Brush on a scan that follows its jaw what has changed: it is left out of the fit. With Alt, what has not. The swab is 3 mm wide and reaches into undercuts.",
  button: false,
  brushes: (shown) => shown.drawn === "map",
  onBrush: ({ hold }, shown, home, start, adds) => {
    if (start) {
      hold(true);
      return useStroke.setState({ piece: shown.piece, points: [home], adds });
    }
    const { piece, points } = useStroke.getState();
    const last = points.at(-1);
    if (piece !== shown.piece || !last) return;
    const apart = Math.hypot(home[0] - last[0], home[1] - last[1], home[2] - last[2]);
    if (apart > SWAB_MM / 2 && points.length < MOST_POINTS) useStroke.setState({ points: [...points, home] });
  },
  endBrush: ({ doings, hold }) => {
    const { piece, points, adds } = useStroke.getState();
    if (points.length === 0) return;
    doings.entry("follow", piece, ["swab"], "", { points_mm: points, radius_mm: SWAB_MM, adds });
    none();
    hold(false);
  },
  Draws,
  drop: none,
};
