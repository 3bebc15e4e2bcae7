import { MoveVertical } from "lucide-react";
import { useRef } from "react";
import { goodOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { type At, type Drawing, Label, type Tool, toStage, useSteps } from "../../stage";
import { useBench } from "../../store/bench";
import { LevelPlane, Outline } from "./Planes";
import { floorOf, footOf, heldBy, inHome } from "./planes";

const REST_MS = 500;
const KEYS: Record<string, ["floor", number]> = { arrowdown: ["floor", 1], arrowup: ["floor", -1] };

/** Set what holds the plane; kept when it is the last of a pull. It counts for both jaws, as on the card. */
function pull({ data }: At, doings: Doings, piece: string, mm: number, last: boolean) {
  const held = heldBy(data, piece);
  if (!held) return;
  const { tryValues } = useBench.getState();
  const { key, least, most } = held.by;
  const value = Math.round(Math.min(Math.max(mm, least), most) * 100) / 100;
  tryValues({ step: "base", piece, values: { [key]: value } });
  if (!last) return;
  doings.set("base", "*", { [key]: value });
  tryValues(null);
}

const jawsOn = ({ data, view }: At) => data.pieces.filter((p) => p.jaw && view.visibility[p.id] !== "hidden");

function Draws(drawing: Drawing) {
  const at = { data: drawing.data, view: drawing.view };
  return jawsOn(at).map((p) => {
    const foot = footOf(at.data, p.id);
    const walls = goodOf(at.data, "base", p.id)?.walls;
    const height = floorOf(at, p.id);
    const held = heldBy(at.data, p.id) ?? heldBy(at.data, at.view.piece ?? "");
    if (!foot || !walls || height === null || !held) return null;
    return (
      <group key={p.id}>
        <LevelPlane
          drawing={drawing}
          piece={p.id}
          foot={foot}
          name={`foot-${p.jaw}`}
          height={height}
          colour="#8a3b12"
          onPull={(mm, last) =>
            pull(at, drawing.doings, at.view.piece ?? p.id, held.mm + (mm + walls.floor_mm) * held.by.times, last)
          }
        />
        <Outline drawing={drawing} piece={p.id} foot={foot} rings={walls.rings} height={height} />
      </group>
    );
  });
}

/** The number that is pulled, beside the plane. */
function Words({ data, view, ui }: Drawing) {
  const at = { data, view };
  const held = heldBy(data, view.piece ?? "");
  const value = held && view.tried?.step === "base" ? view.tried.values[held.by.key] : undefined;
  return jawsOn(at).map((p) => {
    const foot = footOf(data, p.id);
    const height = floorOf(at, p.id);
    return foot && height !== null && held && p.id === view.piece ? (
      <Label key={p.id} at={toStage(ui, at, p.id, inHome(foot, height, 0, 62))}>
        <span data-testid="foot-mm">
          {(value ?? held.mm).toFixed(2)} mm {held.by.label}
        </span>
      </Label>
    ) : null;
  });
}

/** By keys 0.1 mm, with Shift 1 mm; kept when the keys rest. */
function Works({ data, doings, inHand }: { data: CaseOut; doings: Doings; inHand: boolean }) {
  const rest = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useSteps(KEYS, inHand, (_, steps) => {
    const view = useBench.getState();
    const piece = view.piece;
    const held = piece ? heldBy(data, piece) : null;
    if (!piece || !held) return;
    const now = (view.tried?.step === "base" ? view.tried.values[held.by.key] : undefined) ?? held.mm;
    const mm = Math.round((now + steps / 10) * 100) / 100;
    pull({ data, view }, doings, piece, mm, false);
    clearTimeout(rest.current);
    rest.current = setTimeout(() => pull({ data, view }, doings, piece, mm, true), REST_MS);
  });
  return null;
}

export const height: Tool = {
  id: "base-plane",
  title: "Height",
  long: "Height: pull the flat underside",
  keys: "shift+h",
  icon: MoveVertical,
  hint: "Pull a plane, or step it with the arrow keys: 0.1 mm, with Shift 1 mm. It counts for both jaws.",
  here: ({ data }) => goodOf(data, "foot") != null,
  Draws,
  Words,
  Works,
};
