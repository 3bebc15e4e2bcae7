import { Ruler } from "lucide-react";
import { Vector3 } from "three";
import { create } from "zustand";
import { Balls, Label, Line, type Tool } from "../../stage";
import type { Point } from "../../store/bench";

/** The ends of what is measured, on the stage. */
const useEnds = create<{ ends: Point[] }>(() => ({ ends: [] }));

function Draws() {
  const { ends } = useEnds();
  return (
    <>
      <Balls points={ends} colour="#17282b" radius={0.45} />
      {ends.length === 2 && <Line points={ends} color="#17282b" />}
    </>
  );
}

function Words() {
  const [a, b] = useEnds((s) => s.ends);
  if (!a || !b) return null;
  return (
    <Label at={[(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2]}>
      <span data-testid="gauge">{new Vector3(...a).distanceTo(new Vector3(...b)).toFixed(2)} mm</span>
    </Label>
  );
}

const gauge: Tool = {
  id: "gauge",
  title: "Gauge",
  long: "Gauge: measure on the surface",
  keys: "g",
  icon: Ruler,
  hint: "Press on two places of the surface. The straight distance between them is shown.",
  picks: true,
  onPick: (_drawing, _shown, _home, stage) =>
    useEnds.setState(({ ends }) => ({ ends: ends.length >= 2 ? [stage] : [...ends, stage] })),
  Draws,
  Words,
  drop: () => useEnds.setState({ ends: [] }),
};

export default gauge;
