import type { CaseOut, StepOut } from "../shared/api/client";
import type { StepState } from "../shared/ui/StateMark";
import { pieceOf, speakingOf } from "./look";

const WORST: StepState[] = ["failed", "look", "working", "stale", "todo", "done", "off"];

/** The worse of the two jaws; while a part of the step is worked out, the step is, and what a part found counts too. */
export function stateOf(data: CaseOut, step: string): StepState {
  const states = speakingOf(data, step).map((n) => n.state);
  const parts = data.nodes.filter((n) => n.part_of === step && n.state === "working");
  if (parts.length && !states.some((s) => s === "failed")) return "working";
  const found = data.nodes.some(
    (n) => n.part_of === step && n.state === "look" && !n.on_demand && (n.piece === "*" || pieceOf(data, n.piece)?.jaw),
  );
  if (found && states.every((s) => s === "done" || s === "off")) return "look";
  return states.length === 0 ? "todo" : (WORST.find((w) => states.includes(w)) ?? "todo");
}

const NOT_THERE: StepState[] = ["working", "stale", "todo"];

/** Is there something of the step, or of its parts, that nobody can have seen yet? */
export function isComing(data: CaseOut, step: string): boolean {
  return (
    NOT_THERE.includes(stateOf(data, step)) || data.nodes.some((n) => n.part_of === step && NOT_THERE.includes(n.state))
  );
}

/** The one telling figure of a step: what its jaws agree on, or what the first says. */
export function figureOf(data: CaseOut, step: StepOut): string {
  const nodes = speakingOf(data, step.name);
  if (step.over === "scans" && nodes.length > 1) return `${nodes.length} scans`;
  const looks = nodes.reduce((sum, n) => sum + n.looks, 0);
  if (looks > 0 && step.over !== "whole") return looks === 1 ? "1 flag" : `${looks} flags`;
  return together([...new Set(nodes.map((n) => n.figure).filter(Boolean))]);
}

/** "5 holes closed" and "4 holes closed" are "5 + 4 holes closed". */
function together(figures: string[]): string {
  const parts = figures.map((f) => /^([\d.,]+) (.+)$/.exec(f));
  const unit = parts[0]?.[2];
  if (figures.length > 1 && unit && parts.every((p) => p?.[2] === unit))
    return `${parts.map((p) => p?.[1]).join(" + ")} ${unit}`;
  return figures.join(" · ");
}

/** How far the step is, over its jaws; undefined when it is not working. */
export function shareOf(data: CaseOut, step: string): number | undefined {
  const list = Object.entries(data.working).filter(([id]) => id.startsWith(`${step}/`));
  return list.length ? Math.min(...list.map(([, w]) => w.fraction)) : undefined;
}
