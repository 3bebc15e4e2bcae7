import { useEffect, useRef } from "react";
import { detailOf, goodOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { type Hand, handMatrix, useSteps } from "../../stage";
import { useBench } from "../../store/bench";
import { change, chosenOf, entriesOf } from "./bites";

/** Which setting of Bite a key moves, and which way. */
const KEYS: Record<string, [keyof Hand, number]> = {
  arrowleft: ["left_mm", -1],
  arrowright: ["left_mm", 1],
  arrowup: ["back_mm", 1],
  arrowdown: ["back_mm", -1],
  pageup: ["up_mm", 1],
  pagedown: ["up_mm", -1],
  "alt+arrowup": ["tilt_deg", 1],
  "alt+arrowdown": ["tilt_deg", -1],
  "alt+arrowright": ["roll_deg", 1],
  "alt+arrowleft": ["roll_deg", -1],
  "alt+pageup": ["turn_deg", 1],
  "alt+pagedown": ["turn_deg", -1],
};
const STILL: Hand = { tilt_deg: 0, roll_deg: 0, turn_deg: 0, left_mm: 0, back_mm: 0, up_mm: 0 };
const REST_MS = 220;

function handOf({ tilt_deg, roll_deg, turn_deg, left_mm, back_mm, up_mm }: Hand): Hand {
  return { tilt_deg, roll_deg, turn_deg, left_mm, back_mm, up_mm };
}

/** What the first bite was nudged by. What was nudged on another relation does not count on this one: it starts anew. */
function firstOf(data: CaseOut): Hand {
  const settings = detailOf(data, "bite")?.settings;
  const counts = settings?.nudged_on == null || settings.nudged_on === goodOf(data, "bite")?.nudged_on;
  return settings && counts ? handOf(settings) : STILL;
}

/** While the nudge is in hand, keys move the lower by 0.01 mm and, with Alt, turn it by 0.1°; with Shift ten times that. */
export function useNudge(data: CaseOut, doings: Doings, inHand: boolean) {
  const tryMove = useBench((s) => s.tryMove);
  const pending = useRef<Partial<Hand>>({});
  // On its way: until the case tells it, the next key goes on from there.
  const sent = useRef<Partial<Hand>>({});
  useEffect(() => {
    if (!doings.busy) sent.current = {};
  }, [doings.busy]);
  const rest = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useSteps(KEYS, inHand, (which, steps) => {
    const chosen = chosenOf(data);
    const kept = chosen ? handOf({ ...STILL, ...entriesOf(data)[chosen] }) : firstOf(data);
    const per = which.endsWith("_mm") ? 100 : 10;
    const now = pending.current[which] ?? sent.current[which] ?? kept[which];
    pending.current[which] = Math.round((now + steps / per) * per) / per;
    const lower = data.pieces.find((p) => p.jaw === "lower");
    // About the incisors, where the bench has its origin: as the core will do it.
    const step = handMatrix({ ...kept, ...sent.current, ...pending.current }).multiply(handMatrix(kept).invert());
    if (lower) tryMove({ piece: lower.id, matrix: step.toArray() });
    // Kept when the keys rest: one change in the history, not one a step.
    clearTimeout(rest.current);
    rest.current = setTimeout(() => {
      if (chosen) change(doings, chosen, { ...sent.current, ...pending.current });
      else doings.set("bite", "*", pending.current);
      sent.current = { ...sent.current, ...pending.current };
      pending.current = {};
    }, REST_MS);
  });
}
