import { type ComponentType, useMemo } from "react";
import { create } from "zustand";
import type { Point } from "../store/bench";
import type { Drawing, Shown, Tool } from "./kit";
import { Balls } from "./Marks";
import { toStage } from "./place";

/** As many places are kept of one stroke. */
const MOST_POINTS = 2000;

/** A stroke that is being made, in the home of the scan it is on. */
export interface Stroke {
  piece: string;
  points: Point[];
  adds: boolean;
}

interface Brush {
  /** How wide to each side, in mm. */
  radius: () => number;
  /** In which colour a stroke that adds is seen, and one that takes away. */
  colours: [string, string];
  on: (shown: Shown) => boolean;
  /** The stroke is done. */
  send: (drawing: Drawing, stroke: Stroke) => void;
}

type Brushed = Required<Pick<Tool, "brushes" | "onBrush" | "endBrush" | "drop">> & { Draws: ComponentType<Drawing> };

/** The stroke that is being made: there is one at a time. */
const useStroke = create<Stroke & { radius: number; colour: string }>(() => ({
  piece: "",
  points: [],
  adds: true,
  radius: 1,
  colour: "",
}));
const drop = () => useStroke.setState({ piece: "", points: [] });

function Seen({ data, view, ui }: Drawing) {
  const { piece, points, radius, colour } = useStroke();
  const at = useMemo(() => points.map((p) => toStage(ui, { data, view }, piece, p)), [points, piece, data, view, ui]);
  return <Balls points={at} colour={colour} radius={radius} opacity={0.32} />;
}

/** A tool that brushes: every half radius a place, sent when the brush is lifted. */
export function brushed({ radius, colours, on, send }: Brush): Brushed {
  return {
    brushes: on,
    onBrush: ({ hold }, shown, home, start, adds) => {
      if (start) {
        hold(true);
        const colour = colours[adds ? 0 : 1];
        return useStroke.setState({ piece: shown.piece, points: [home], adds, radius: radius(), colour });
      }
      const { piece, points, radius: wide } = useStroke.getState();
      const last = points.at(-1);
      if (piece !== shown.piece || !last) return;
      const apart = Math.hypot(home[0] - last[0], home[1] - last[1], home[2] - last[2]);
      if (apart > wide / 2 && points.length < MOST_POINTS) useStroke.setState({ points: [...points, home] });
    },
    endBrush: (drawing) => {
      const stroke = useStroke.getState();
      if (stroke.points.length === 0) return;
      send(drawing, stroke);
      drop();
      drawing.hold(false);
    },
    Draws: Seen,
    drop,
  };
}
