import type { NodeOf } from "../../case/look";
import type { Point } from "../../store/bench";

export type PinRoom = NonNullable<NonNullable<NodeOf<"articulate">["good"]>["room"]>;

const unrolled = new WeakMap<PinRoom, Int8Array>();

/** The code of every place, y fastest. */
function codesOf(room: PinRoom): Int8Array {
  const known = unrolled.get(room);
  if (known) return known;
  const all = new Int8Array(room.count[0] * room.count[1]);
  let at = 0;
  for (const [code, many] of room.codes) {
    all.fill(code, at, at + many);
    at += many;
  }
  unrolled.set(room, all);
  return all;
}

/** Why no pin can stand at a place in the lower's home; empty where one can. */
export function whyNot(room: PinRoom, at: Point): string {
  const m = room.to_plan;
  const along = (row: number) => m[row * 4] * at[0] + m[row * 4 + 1] * at[1] + m[row * 4 + 2] * at[2] + m[row * 4 + 3];
  const i = Math.round((along(0) - room.low_mm[0]) / room.step_mm);
  const j = Math.round((along(1) - room.low_mm[1]) / room.step_mm);
  if (i < 0 || j < 0 || i >= room.count[0] || j >= room.count[1]) return "it is too far from both models";
  return room.why[String(codesOf(room)[i * room.count[1] + j])] ?? "";
}
