import { PanelBottomDashed } from "lucide-react";
import { detailOf, flagsOf, goodOf } from "../../case/look";
import { isComing } from "../../case/states";
import {
  type CardProps,
  type Drawing,
  fromStage,
  Label,
  PulledBall,
  type StepUi,
  type Tool,
  toStage,
} from "../../stage";
import type { Point } from "../../store/bench";
import { say } from "../../store/notices";
import { height } from "./height";
import { LevelPlane } from "./Planes";
import { footOf, inHome, platesOf } from "./planes";

const BRASS = "#a9852f";
const round = (at: Point) => at.map((mm) => Math.round(mm * 100) / 100) as Point;

const placeNotch: Tool = {
  id: "place-notch",
  title: "Notch",
  long: "Notch: choose where a spatula gets under the rim",
  keys: "shift+u",
  icon: PanelBottomDashed,
  hint: "Press on the wall where the notch shall be. Where there is no room it goes as near as it can.",
  picks: true,
  onPick: ({ data, doings }, shown, home) => {
    // A base that is being worked out anew stands elsewhere in a moment: what is pressed now may be none of it then.
    if (isComing(data, "base"))
      return say("The base is out of date and being worked out anew. Put the notch once it is there.", "look");
    doings.set("base", shown.piece, { notch: true, notch_at: round(home) });
  },
};

/** The plates a closed pair is mounted between; pulled, they go apart alike. And a ball at each notch. */
function Draws(drawing: Drawing) {
  const { data, view, ui, doings, hold } = drawing;
  const plates = platesOf(data);
  const at = { data, view };
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .map((p) => {
      const foot = footOf(data, p.id);
      const notch = goodOf(data, "notch", p.id)?.notch;
      const mm = plates && (p.jaw === "lower" ? plates.lower_mm : -plates.upper_mm);
      return (
        <group key={p.id}>
          {foot && plates && mm != null && !view.book && (
            <LevelPlane
              drawing={drawing}
              piece={p.id}
              foot={foot}
              name={`plate-${p.jaw}`}
              height={mm}
              colour={BRASS}
              onPull={(to, last) => {
                const gap = Math.round((plates.gap_mm + 2 * (to + mm)) * 10) / 10;
                if (last) doings.set("base", "*", { gap_mm: Math.min(Math.max(gap, 15), 120) });
              }}
            />
          )}
          {notch && (
            <PulledBall
              name={`notch-${p.jaw}`}
              at={toStage(ui, at, p.id, notch.at_mm)}
              colour="#1d6b5e"
              radius={1.1}
              along="view"
              onHold={hold}
              onPut={(stage) => {
                const to = fromStage(ui, at, p.id, stage);
                if (to) doings.set("base", p.id, { notch_at: round(to) });
              }}
            />
          )}
        </group>
      );
    });
}

/** Of each plate, by how much its jaw sticks out past it, or what is missing. */
function Words({ data, view, ui }: Drawing) {
  const plates = platesOf(data);
  if (!plates || view.book) return null;
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .map((p) => {
      const foot = footOf(data, p.id);
      const [mm, past] =
        p.jaw === "lower" ? [plates.lower_mm, plates.lower_past_mm] : [-plates.upper_mm, plates.upper_past_mm];
      if (!foot) return null;
      const words =
        past > 0.05 ? `${past.toFixed(1)} mm past` : past < -0.05 ? `${(-past).toFixed(1)} mm short of` : "at";
      return (
        <Label
          key={p.id}
          tone={past > 0.05 ? "look" : "calm"}
          at={toStage(ui, { data, view }, p.id, inHome(foot, mm, 0, -12))}
        >
          <span data-testid={`plate-${p.jaw}`}>
            {words} the plate{p.jaw === "upper" ? `, gap ${plates.gap_mm.toFixed(1)} mm` : ""}
          </span>
        </Label>
      );
    });
}

/** What the core says of a pair that does not stand closed on its back, or not on all sides. */
const NOT_STANDING = new Set([
  "own-backs",
  "leaning-backs",
  "other-shape",
  "ragged-walls",
  "no-back",
  "bite-left-open",
]);

/** One press for a pair that stands closed on a table. */
function Below({ data, node, doings }: CardProps) {
  const settings = node && (detailOf(data, "base", node.piece)?.settings as Record<string, unknown> | undefined);
  const pair = data.pieces.filter((p) => p.jaw).length === 2;
  if (!settings || !pair) return null;
  const land = settings.shape === "squared" || settings.shape === "flat";
  const said = data.opened.filter((d) => d.step === "base" || d.step === "foot").flatMap(flagsOf);
  if (settings.flush && land)
    return said.some((flag) => NOT_STANDING.has(flag.code)) ? null : (
      <p className="dim mt-2 text-[13px]">
        Closed, the pair stands on its back and on both sides: they lie in one plane each.
      </p>
    );
  return (
    <div className="mt-2 flex flex-wrap gap-2">
      {!settings.flush && (
        <button type="button" className="btn btn-sm" onClick={() => doings.set("base", "*", { flush: true })}>
          Make the backs flush
        </button>
      )}
      <button
        type="button"
        className="btn btn-sm"
        onClick={() => doings.set("base", "*", { flush: true, shape: land ? settings.shape : "squared" })}
      >
        Let it stand on any side
      </button>
    </div>
  );
}

const base: StepUi = {
  name: "base",
  tools: [height, placeNotch],
  Draws,
  Words,
  Below,
};

export default base;
