import { create } from "zustand";
import { detailOf, goodOf, nodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";

/** How marks are made: they add to what goes, or take away from it; how wide the swab is (mm, to each side); how far a fence reaches. */
export const useMarking = create<{ adds: boolean; wide: number; reach: "asked" | "near" | "through" }>(() => ({
  adds: true,
  wide: 1.5,
  reach: "asked",
}));

interface Markable {
  whole: string | null;
  kept: string | null;
  caught: string | null;
  waiting: string | null;
}

/** What of a jaw is there to be marked: up to the edge line; what of it stays; and what a fence caught on the far side, and holds on the near one,
 * while it waits for a word. */
export function markable(data: CaseOut, piece: string): Markable {
  const whole = goodOf(data, "edge", piece)?.mesh ?? null;
  const marked = nodeOf(data, "marked", piece)?.state === "off" ? undefined : goodOf(data, "marked", piece);
  return { whole, kept: marked?.mesh ?? whole, caught: marked?.caught ?? null, waiting: marked?.waiting ?? null };
}

export function marksOf(data: CaseOut, piece: string) {
  return detailOf(data, "marked", piece)?.settings.marks ?? {};
}
