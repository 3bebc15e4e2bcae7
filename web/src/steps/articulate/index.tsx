import { Plus, Puzzle } from "lucide-react";
import { detailOf, goodOf } from "../../case/look";
import { useKnownParts } from "../../shared/houseParts";
import { type CardProps, type Drawing, fromStage, Label, type StepUi, type Tool, toStage } from "../../stage";
import type { Point } from "../../store/bench";
import { BearingLines, BearingWords } from "./Bearing";
import { DieList } from "./DieList";
import { DieHandles, DieWords } from "./Dies";
import { HouseParts } from "./HouseParts";
import { changePart, partPieces, partsOn, useMovedPart } from "./houseParts";
import { JoinList } from "./JoinList";
import { lift, takeOut } from "./lift";
import { PinList } from "./PinList";
import { lowerOf, PinHandles } from "./Pins";
import { usePulledPin } from "./pulled";
import { swing } from "./swing";

/** A place on the stage in the lower's own coordinates. */
function kept({ data, view, ui }: Drawing, stage: Point): Point | null {
  const lower = lowerOf(data);
  return lower ? fromStage(ui, { data, view }, lower.id, stage) : null;
}

const add: Tool = {
  id: "add-pin",
  title: "Add a pin",
  long: "Add a pin: choose where one more pin stands",
  keys: "shift+a",
  icon: Plus,
  hint: "Press on a wall: one more pin stands beside it, as near as it can.",
  here: ({ data }) => (goodOf(data, "articulate")?.pins?.length ?? 0) > 0,
  picks: true,
  onPick: (drawing, _shown, _home, stage) => {
    const at = kept(drawing, stage);
    if (at) drawing.doings.entry("articulate", "*", ["pins"], "", { zone: "", at });
  },
};

const attach: Tool = {
  id: "attach",
  title: "Attach",
  long: "Attach: put a house part on a base",
  keys: "shift+s",
  icon: Puzzle,
  hint: "Press on the wall or the underside of a base: the house part stands there on its largest flat face, and is one body with it.",
  here: ({ data }) => partPieces(data).length > 0,
  picks: true,
  onPick: ({ data, doings, view }, shown, home) => {
    const jaw = shown.piece.split(".")[0] ?? "";
    const at = home.map((mm) => Math.round(mm * 100) / 100);
    const moved = useMovedPart.getState();
    if (moved.entry && moved.piece === jaw && partsOn(data, jaw)[moved.entry]) {
      changePart(doings, jaw, moved.entry, { at });
      return;
    }
    const parts = partPieces(data);
    const scan = parts.find((p) => p.id === view.piece) ?? parts.find((p) => p.sha256 === moved.next) ?? parts[0];
    if (!scan) return;
    const stands = useKnownParts.getState().parts.find((p) => p.sha256 === scan.sha256);
    const { face = 1, turn_deg = 0 } = stands ?? {};
    doings.entry("attach", jaw, ["parts"], "", { scan: scan.id, at, face, turn_deg });
  },
  drop: () => useMovedPart.setState({ piece: "", entry: "" }),
};

function Draws(drawing: Drawing) {
  const pins = goodOf(drawing.data, "articulate")?.pins ?? [];
  return (
    <>
      <PinHandles
        drawing={drawing}
        pins={pins}
        onPut={(pin, stage) => {
          const at = kept(drawing, stage);
          if (at) drawing.doings.entry("articulate", "*", ["pins"], pin.entry, { zone: pin.zone, at });
        }}
      />
      <DieHandles {...drawing} />
      <BearingLines {...drawing} />
    </>
  );
}

/** What each pin is called, beside it; of one that is pulled, how it would stand. */
function PinWords({ data, view, ui }: Drawing) {
  const pulled = usePulledPin();
  const lower = lowerOf(data);
  const pins = goodOf(data, "articulate")?.pins ?? [];
  if (!lower) return null;
  if (pulled.at)
    return (
      <Label at={pulled.at} tone={pulled.why ? "look" : "calm"}>
        <span data-testid="pin-told" className="text-xs">
          {pulled.why ? `Not here: ${pulled.why}` : "A pin can stand here"}
        </span>
      </Label>
    );
  return pins.map((pin) => (
    <Label key={pin.entry || pin.zone} at={toStage(ui, { data, view }, lower.id, pin.at_mm)}>
      <span data-testid={`pin-${pin.zone || pin.entry}`} className="text-xs">
        {pin.zone || "added"}
      </span>
    </Label>
  ));
}

function Words(drawing: Drawing) {
  return (
    <>
      <PinWords {...drawing} />
      <DieWords {...drawing} />
      <BearingWords {...drawing} />
    </>
  );
}

function Below(props: CardProps) {
  return (
    <>
      <PinList {...props} />
      <DieList {...props} />
      <JoinList {...props} />
      <HouseParts {...props} />
    </>
  );
}

const HINTS: Record<string, string> = {
  pins: "Pull a pin by its ball to put it elsewhere.",
  hinge: "Swing opens the pair about its hinges.",
  plates: "The pair goes on the blocks of an articulator in one way only.",
};

const articulate: StepUi = {
  name: "articulate",
  tools: [add, swing, takeOut, lift, attach],
  Draws,
  Words,
  Below,
  gathers: true,
  auto: (data) => {
    const of = data.opened.find((d) => d.step === "dies" && d.readings?.length);
    const air = of?.readings?.find((r) => r.name === "air round shafts, a side");
    return air ? { die_air_mm: Number(air.value).toFixed(2) } : undefined;
  },
  hint: ({ data }) =>
    HINTS[String(detailOf(data, "articulate")?.settings.style)] ?? "Choose what holds the pair in its bite.",
};

export default articulate;
