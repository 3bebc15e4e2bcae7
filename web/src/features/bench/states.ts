import type { CaseOut, Flag, NodeOut, StepOut } from "../../shared/api/client";
import type { StepState } from "../../shared/ui/StateMark";

const WORST: StepState[] = ["failed", "look", "working", "stale", "todo", "done"];

export function nodesOf(data: CaseOut, step: string): NodeOut[] {
  return data.nodes.filter((n) => n.step === step);
}

/** The worse of the two jaws. */
export function stateOf(data: CaseOut, step: string): StepState {
  const states = nodesOf(data, step).map((n) => n.state as StepState);
  return states.length === 0 ? "todo" : (WORST.find((w) => states.includes(w)) ?? "todo");
}

export function flagsOf(node: NodeOut | undefined): Flag[] {
  return (node?.flags ?? []) as unknown as Flag[];
}

/** The one telling figure of a step: what its jaws agree on, or what the first says. */
export function figureOf(data: CaseOut, step: StepOut): string {
  const nodes = nodesOf(data, step.name);
  if (step.name === "intake" && nodes.length > 1) return `${nodes.length} scans`;
  const looks = nodes.flatMap(flagsOf).filter((f) => f.severity !== "note").length;
  if (looks > 0 && step.scope === "piece") return looks === 1 ? "1 flag" : `${looks} flags`;
  const figures = [...new Set(nodes.map((n) => n.figure).filter(Boolean))];
  return figures.length > 1 ? figures.join(" · ") : (figures[0] ?? "");
}

/** How far the step is, over its jaws; undefined when it is not working. */
export function shareOf(data: CaseOut, step: string): number | undefined {
  const list = Object.entries(data.working as Record<string, { fraction: number }>).filter(([id]) =>
    id.startsWith(`${step}/`),
  );
  return list.length ? Math.min(...list.map(([, w]) => w.fraction)) : undefined;
}
