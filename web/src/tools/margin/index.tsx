import { Brush } from "lucide-react";
import { useMemo } from "react";
import { create } from "zustand";
import { foundOf, useMargins, useTold } from "../../case/told";
import { brushed, Choice, type Drawing, type Ring, Rings, type Tool, ToolPanel, toStage } from "../../stage";

const SWAB_MM = 1.0;
// A line is drawn with this, and kept in steps of half of it.
const LINE_MM = 0.3;
const COLOUR = "#2c5f78";

type Way = "swab" | "line";
const WAYS = [
  { value: "swab", words: "Swab" },
  { value: "line", words: "Line" },
] as const;

const useWay = create<{ way: Way }>(() => ({ way: "swab" }));

/** A part of a jaw is on that jaw. */
const jawOf = (piece: string) => piece.split(".")[0] ?? piece;

const stroke = brushed({
  radius: () => (useWay.getState().way === "line" ? LINE_MM : SWAB_MM),
  colours: [COLOUR, "#a3545a"],
  on: (shown) => shown.jaw !== null && shown.drawn !== "goes",
  send: ({ doings }, { piece, points, adds }) => {
    const line = useWay.getState().way === "line";
    const radius_mm = line ? LINE_MM : SWAB_MM;
    doings.entry("teeth", jawOf(piece), ["swab"], "", { points_mm: points, radius_mm, adds: line || adds, line });
  },
});

/** Where the step that is open does not draw them: the margins as they run now. */
function Margins({ data, view, ui }: Drawing) {
  const { told } = useMargins();
  const rings = useMemo<Ring[]>(
    () =>
      data.pieces
        .filter((p) => p.jaw && (view.visibility[p.id] ?? "shown") === "shown")
        .flatMap((p) =>
          (told[p.id] ?? []).map((tooth) => ({
            points: tooth.margin_mm.map((at) => toStage(ui, { data, view }, p.id, at)),
            dotted: tooth.margin_mm.map(() => false),
          })),
        ),
    [data, view, ui, told],
  );
  return rings.length > 0 && <Rings rings={rings} />;
}

function Draws(drawing: Drawing) {
  return (
    <>
      <stroke.Draws {...drawing} />
      {drawing.ui.name !== "trim" && <Margins {...drawing} />}
    </>
  );
}

function Words({ data }: Drawing) {
  const { way } = useWay();
  useTold(data);
  return (
    <ToolPanel name="Margin">
      <Choice label="How the margin is made" value={way} of={WAYS} onChoose={(way) => useWay.setState({ way })} />
      <p className="dim text-xs">
        {way === "line"
          ? "Between its ends the line takes the place of the margin; drawn all round it is the margin."
          : "At the swab’s edge the margin settles into the valley."}
      </p>
    </ToolPanel>
  );
}

const HINTS = {
  swab: "Brush from a tooth over what belongs to it. With Alt, over what is gum. The swab is 2 mm wide.",
  line: "Draw where the margin runs: begin and end on the margin as it is, or go all round the tooth.",
};

const margin: Tool = {
  id: "margin",
  title: "Margin",
  long: "Margin: say by hand where a tooth ends",
  keys: "shift+w",
  icon: Brush,
  useHint: () => HINTS[useWay((s) => s.way)],
  here: ({ data, view }) =>
    (view.step === "trim" || view.step === "articulate") && data.pieces.some((p) => foundOf(data, p.id) !== null),
  picks: true,
  ...stroke,
  Draws,
  Words,
};

export default margin;
