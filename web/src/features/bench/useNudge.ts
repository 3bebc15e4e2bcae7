import { useRef } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Matrix4 } from "three";
import type { CaseOut } from "../../shared/api/client";
import { useBench } from "../../store/bench";
import { nodeOf } from "../stage";
import type { Doings } from "./useCase";

/** Which setting of Bite a key moves, and which way. */
const KEYS: Record<string, [string, number]> = {
  arrowleft: ["left_mm", -1],
  arrowright: ["left_mm", 1],
  arrowup: ["back_mm", 1],
  arrowdown: ["back_mm", -1],
  pageup: ["up_mm", 1],
  pagedown: ["up_mm", -1],
};
const REST_MS = 350;

/** While the nudge is in hand, arrow keys and Page Up and Down move the lower: 0.01 mm, with Shift 0.1 mm. */
export function useNudge(data: CaseOut, doings: Doings) {
  const { tool, tryMove } = useBench();
  const pending = useRef<Record<string, number>>({});
  const rest = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useHotkeys(
    Object.keys(KEYS)
      .flatMap((key) => [key, `shift+${key}`])
      .join(", "),
    (event, hotkey) => {
      const move = KEYS[hotkey.keys?.at(-1) ?? ""];
      if (!move) return;
      event.preventDefault();
      const [key, sign] = move;
      const now = pending.current[key] ?? Number(nodeOf(data, "bite")?.settings[key] ?? 0);
      const kept = nodeOf(data, "bite")?.settings ?? {};
      pending.current[key] = Math.round((now + sign * (event.shiftKey ? 0.1 : 0.01)) * 100) / 100;
      const by = (name: string) => (pending.current[name] ?? Number(kept[name] ?? 0)) - Number(kept[name] ?? 0);
      const lower = data.pieces.find((p) => p.jaw === "lower");
      const matrix = new Matrix4().makeTranslation(by("left_mm"), by("back_mm"), by("up_mm"));
      if (lower) tryMove({ piece: lower.id, matrix: matrix.toArray() });
      // Kept when the keys rest: one change in the history, not one a step.
      clearTimeout(rest.current);
      rest.current = setTimeout(() => {
        doings.set("bite", "*", pending.current);
        pending.current = {};
      }, REST_MS);
    },
    { enabled: tool === "nudge", useKey: true },
  );
}
