import type { DoubtOut } from "../shared/api/client";
import { useBench } from "../store/bench";
import { leave } from "../store/hand";

/** Goes to what a doubt is about: its step, its scan, its place. */
export function useShow(): (doubt: DoubtOut) => void {
  const { open, act, want } = useBench();
  return ({ step, piece, flag }) =>
    leave(() => {
      open(step);
      if (piece !== "*") act(piece.split(".")[0] ?? null);
      want({ step, place: flag.place ?? null, text: flag.message, flag: flag.id });
    });
}
