import { useHotkeys } from "react-hotkeys-hook";
import { Euler, Matrix4 } from "three";

/** A correction by hand, as Bite and Level keep it. */
export interface Hand {
  tilt_deg: number;
  roll_deg: number;
  turn_deg: number;
  left_mm: number;
  back_mm: number;
  up_mm: number;
}

/** In the core's order: first tilt, then roll, then turn; then the shift. */
export function handMatrix(h: Hand): Matrix4 {
  const rad = Math.PI / 180;
  const turn = new Euler(h.tilt_deg * rad, h.roll_deg * rad, h.turn_deg * rad, "ZYX");
  return new Matrix4().makeRotationFromEuler(turn).setPosition(h.left_mm, h.back_mm, h.up_mm);
}

/** Steps by keys: each key moves one number up or down by one step, with Shift by ten. */
export function useSteps<T extends string>(
  keys: Record<string, [T, number]>,
  enabled: boolean,
  onStep: (which: T, steps: number) => void,
) {
  useHotkeys(
    Object.keys(keys)
      .flatMap((key) => [key, `shift+${key}`])
      .join(", "),
    (event, hotkey) => {
      const move = keys[`${event.altKey ? "alt+" : ""}${hotkey.keys?.at(-1) ?? ""}`];
      if (!move) return;
      event.preventDefault();
      onStep(move[0], move[1] * (event.shiftKey ? 10 : 1));
    },
    { enabled, useKey: true },
  );
}
