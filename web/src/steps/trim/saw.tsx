import { Slice } from "lucide-react";
import { useRef } from "react";
import { pieceOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { type At, type Drawing, placeOf, type Tool, useSteps } from "../../stage";
import { useBench } from "../../store/bench";
import { SawPlanes } from "./SawPlanes";
import { type SawName, seenSaws } from "./saws";

const LEAST: Record<SawName, number> = { bottom: 2, back: 5 };
const MOST: Record<SawName, number> = { bottom: 60, back: 90 };
const KEYS: Record<string, [SawName, number]> = {
  arrowup: ["bottom", -1],
  arrowdown: ["bottom", 1],
  arrowleft: ["back", 1],
  arrowright: ["back", -1],
};
const REST_MS = 500;

/** Move a saw of a jaw; kept when it is the last of a pull. */
function pull({ view }: At, doings: Doings, piece: string, which: SawName, mm: number, last: boolean) {
  const value = Math.min(Math.max(mm, LEAST[which]), MOST[which]);
  const { tryValues } = useBench.getState();
  const before = view.tried?.piece === piece ? view.tried.values : {};
  tryValues({ step: "trim", piece, values: { ...before, [`${which}_mm`]: value } });
  if (!last) return;
  doings.set("trim", piece, { [`${which}_mm`]: value });
  tryValues(null);
}

function Draws({ data, view, ui, doings, hold }: Drawing) {
  const at = { data, view };
  const piece = view.piece ? pieceOf(data, view.piece) : undefined;
  const saws = piece && seenSaws(at, piece.id);
  if (!piece || !saws) return null;
  return (
    <SawPlanes
      saws={saws}
      matrix={placeOf(ui, at, piece)}
      onPull={(which, mm, last) => pull(at, doings, piece.id, which, mm, last)}
      onHold={hold}
    />
  );
}

/** By keys 0.1 mm, with Shift 1 mm; kept when the keys rest: one change in the history, not one a step. */
function Works({ data, doings, inHand }: { data: CaseOut; doings: Doings; inHand: boolean }) {
  const rest = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useSteps(KEYS, inHand, (which, steps) => {
    const at = { data, view: useBench.getState() };
    const piece = at.view.piece;
    const now = piece ? seenSaws(at, piece) : null;
    if (!piece || !now) return;
    const mm = Math.round((now[which].mm + steps / 10) * 100) / 100;
    pull(at, doings, piece, which, mm, false);
    clearTimeout(rest.current);
    rest.current = setTimeout(() => pull(at, doings, piece, which, mm, true), REST_MS);
  });
  return null;
}

export const saw: Tool = {
  id: "saw",
  title: "Saw",
  long: "Saw: pull the planes of Trim",
  keys: "s",
  icon: Slice,
  hint: "Pull a saw on the model, or step it with the arrow keys: 0.1 mm, with Shift 1 mm. Hatched is what will go.",
  Draws,
  Works,
};
