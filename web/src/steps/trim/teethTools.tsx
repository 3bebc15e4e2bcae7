import { Combine, Hash, Layers2, SplitSquareVertical, Tags } from "lucide-react";
import { create } from "zustand";
import { goodOf } from "../../case/look";
import { foundOf, toothAt } from "../../case/told";
import { useNames } from "../../shared/toothNames";
import { Balls, type Drawing, Label, type Tool, toStage } from "../../stage";
import { type Point, useBench } from "../../store/bench";

const COLOUR = "#2c5f78";

/** What was pressed first, in the home of its jaw. */
const usePressed = create<{ piece: string; at: Point | null }>(() => ({ piece: "", at: null }));
const none = () => usePressed.setState({ piece: "", at: null });

function Draws({ data, view, ui }: Drawing) {
  const { piece, at } = usePressed();
  return at && <Balls points={[toStage(ui, { data, view }, piece, at)]} colour={COLOUR} radius={0.6} />;
}

/** Every number a tooth of this jaw can have, from the patient's right to the left. */
function numbersOf(jaw: string, milk: boolean): number[] {
  const [right, left] = jaw === "upper" ? [1, 2] : [4, 3];
  const more = milk ? 4 : 0;
  const last = milk ? 5 : 8;
  const places = Array.from({ length: last }, (_, k) => k + 1);
  return [...places.map((k) => (right + more) * 10 + k).reverse(), ...places.map((k) => (left + more) * 10 + k)];
}

/** Beside the tooth that was pressed: which it is. */
function Choice({ data, view, ui, doings }: Drawing) {
  const { piece, at } = usePressed();
  const names = useNames();
  const jaw = data.pieces.find((p) => p.id === piece)?.jaw;
  if (!at || !jaw) return null;
  const now = toothAt(foundOf(data, piece), at);
  const say = (value: Record<string, unknown>) => {
    doings.entry("teeth", piece, ["said"], "", { at, ...value });
    none();
  };
  return (
    <Label at={toStage(ui, { data, view }, piece, at)}>
      <span className="pointer-events-auto flex items-center gap-1.5 py-0.5 text-[13px]">
        {now ? `${names(now.fdi)} is` : "Here is"}
        <select
          aria-label="Which tooth it is"
          className="line rounded border bg-base-100 px-1"
          value=""
          onChange={(e) =>
            e.target.value === "none" ? say({ kind: "none" }) : say({ kind: "number", fdi: +e.target.value })
          }
        >
          <option value="" disabled>
            …
          </option>
          {[false, true].map((milk) => (
            <optgroup key={String(milk)} label={milk ? "milk teeth" : "teeth"}>
              {numbersOf(jaw, milk).map((fdi) => (
                <option key={fdi} value={fdi}>
                  {names(fdi)}
                </option>
              ))}
            </optgroup>
          ))}
          <option value="none">no tooth</option>
        </select>
      </span>
    </Label>
  );
}

const told: Tool["here"] = ({ data }) => data.pieces.some((p) => foundOf(data, p.id) !== null);

export const number: Tool = {
  id: "tooth-number",
  title: "Number",
  long: "Number: say which tooth it is",
  keys: "shift+n",
  icon: Hash,
  hint: "Press on a tooth, then choose its number. The others are numbered anew by it.",
  here: told,
  picks: true,
  onPick: (_, shown, home) => shown.jaw && usePressed.setState({ piece: shown.piece, at: home }),
  Draws,
  Words: Choice,
  drop: none,
};

function ofTwo(kind: "together" | "apart"): Tool["onPick"] {
  return ({ doings }, shown, home) => {
    const { piece, at } = usePressed.getState();
    if (!shown.jaw) return;
    if (!at || piece !== shown.piece) return usePressed.setState({ piece: shown.piece, at: home });
    doings.entry("teeth", piece, ["said"], "", { kind, at, also: home });
    none();
  };
}

export const join: Tool = {
  id: "join-teeth",
  title: "Join",
  long: "Join: two places are one tooth",
  keys: "shift+j",
  icon: Combine,
  useHint: () =>
    usePressed((s) => s.at)
      ? "Now on the other part of the same tooth."
      : "Press on one part of a tooth that was taken for two.",
  here: told,
  picks: true,
  onPick: ofTwo("together"),
  Draws,
  drop: none,
};

export const part: Tool = {
  id: "part-teeth",
  title: "Part",
  long: "Part: two places are two teeth",
  keys: "shift+p",
  icon: SplitSquareVertical,
  useHint: () =>
    usePressed((s) => s.at) ? "Now on the other of the two." : "Press on one of two teeth that were taken for one.",
  here: told,
  picks: true,
  onPick: ofTwo("apart"),
  Draws,
  drop: none,
};

export const reducedMap: Tool = {
  id: "reduced-map",
  title: "Reduced",
  long: "Reduced: how far off the scan it is",
  keys: "shift+r",
  icon: Layers2,
  group: "Views",
  here: ({ data }) => data.pieces.some((p) => goodOf(data, "reduce", p.id)?.map),
  on: ({ view }) => view.map,
  run: ({ view }) => useBench.getState().showMap(!view.map),
};

export const tint: Tool = {
  id: "tint",
  title: "Gum",
  long: "Gum: tint it, and see the teeth apart",
  keys: "shift+g",
  icon: Tags,
  group: "Views",
  here: told,
  on: ({ view }) => view.tint,
  run: ({ view }) => useBench.getState().tintGum(!view.tint),
};
