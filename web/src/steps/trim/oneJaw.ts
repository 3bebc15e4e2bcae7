import type { At } from "../../stage";

/** Tools that mark what goes; and all that act on one jaw alone, while the other stands back. */
export const MARK_TOOLS = ["fence", "mark-swab", "whole-piece", "three-points"];
const ONE_JAW = ["saw", ...MARK_TOOLS, "edge-line", "touch-up"];

export function inHand({ view }: At, ...ids: string[]): boolean {
  return view.tool !== null && ids.includes(view.tool.id);
}

/** Does this jaw stand back, for a tool acts on the other alone? */
export function standsBack(at: At, piece: string): boolean {
  return inHand(at, ...ONE_JAW) && at.view.piece !== null && piece !== at.view.piece;
}
