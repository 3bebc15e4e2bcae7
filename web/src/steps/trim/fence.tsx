import { Spline } from "lucide-react";
import { useEffect, useRef } from "react";
import { create } from "zustand";
import { Command } from "../../shared/ui/Command";
import { Choice, type Drawing, fromStage, type Spot, type Tool, ToolPanel, through, useOnScreen } from "../../stage";
import { holdBegun } from "../../store/hand";
import { say } from "../../store/notices";
import { MarkOptions } from "./MarkOptions";
import { useMarking } from "./markings";

/** The fence as far as it is drawn: on the screen, for it counts as the eye sees it. */
const useRing = create<{ spots: Spot[]; at: Spot | null; free: boolean }>(() => ({ spots: [], at: null, free: false }));
const none = () => useRing.setState({ spots: [], at: null, free: false });

/** So far the pointer goes before it draws freehand; so near to the first corner it closes; corners are as far apart, freehand. */
const FREE_PX = 6;
const CLOSE_PX = 10;
const APART_PX = 4;
const MOST = 400;

const apart = (a: Spot, b: Spot) => Math.hypot(a[0] - b[0], a[1] - b[1]);

function close(drawing: Drawing) {
  const { spots } = useRing.getState();
  none();
  const piece = drawing.view.piece;
  const seen = spots.length > 2 ? through(spots) : null;
  if (!piece || !seen) return;
  const home = (p: [number, number, number]) => fromStage(drawing.ui, drawing, piece, p);
  const eye = home(seen.eye);
  const points = seen.places.map(home);
  const { adds, reach } = useMarking.getState();
  if (eye && points.every((p) => p !== null))
    drawing.doings.entry("marked", piece, ["marks"], "", { kind: "fence", eye, points_mm: points, adds, reach });
}

/** By Enter. */
function finish(drawing: Drawing) {
  const { spots } = useRing.getState();
  if (spots.length > 2) close(drawing);
  else say("A fence needs three corners at least. Press for the next one, or draw freehand.");
}

function Words(drawing: Drawing) {
  const box = useRef<HTMLDivElement>(null);
  const { spots, at, free } = useRing();
  const { reach } = useMarking();
  useOnScreen(box, {
    onDown: (spot) => {
      const { spots } = useRing.getState();
      const first = spots[0];
      if (first && spots.length > 2 && apart(first, spot) < CLOSE_PX) return close(drawing);
      useRing.setState({ spots: [...spots, spot], at: spot, free: false });
    },
    onMove: (spot, pressed) => {
      const { spots, free } = useRing.getState();
      const last = spots.at(-1);
      if (!last) return;
      if (pressed && (free || apart(last, spot) > FREE_PX)) {
        if (apart(last, spot) > APART_PX && spots.length < MOST)
          useRing.setState({ spots: [...spots, spot], free: true, at: spot });
      } else useRing.setState({ at: spot });
    },
    onUp: () => useRing.getState().free && close(drawing),
    onTurned: none,
  });
  const latest = useRef(drawing);
  latest.current = drawing;
  useEffect(
    () =>
      holdBegun({
        what: "The fence",
        is: () => useRing.getState().spots.length > 0,
        end: () => finish(latest.current),
        back: () => useRing.setState({ spots: useRing.getState().spots.slice(0, -1) }),
        forget: none,
      }),
    [],
  );
  const line = [...spots, ...(at && !free ? [at] : [])];
  return (
    <div ref={box} className="absolute inset-0">
      <svg className="h-full w-full" role="img" aria-label="The fence">
        <polyline points={line.map((p) => p.join()).join(" ")} fill="none" stroke="#f4f6f4" strokeWidth={4} />
        <polyline
          points={line.map((p) => p.join()).join(" ")}
          fill="none"
          stroke="#17282b"
          strokeWidth={2}
          strokeDasharray="7 4"
        />
        {spots[0] && !free && <circle cx={spots[0][0]} cy={spots[0][1]} r={5} fill="#f4f6f4" stroke="#17282b" />}
      </svg>
      <Command id="close-fence" title="Close the fence" keys="enter" group="Tools" run={() => finish(drawing)} />
      <ToolPanel name="Fence">
        <Choice
          label="How far it reaches"
          value={reach}
          of={[
            { value: "asked", words: "ask" },
            { value: "near", words: "near side" },
            { value: "through", words: "through" },
          ]}
          onChoose={(reach) => useMarking.setState({ reach })}
        />
        <MarkOptions {...drawing} />
      </ToolPanel>
    </div>
  );
}

export const fence: Tool = {
  id: "fence",
  title: "Fence",
  long: "Fence: draw round what goes",
  keys: "shift+o",
  icon: Spline,
  hint: "Press for each corner and on the first (or Enter) to close, or draw freehand. Delete takes the last corner back. The right button turns the view. What goes is hatched; what is caught on the far side is counted first.",
  here: ({ data }) => data.pieces.some((p) => p.jaw),
  draws: true,
  Words,
  drop: none,
};
