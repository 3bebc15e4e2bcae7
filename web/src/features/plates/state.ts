import type { Plate } from "../../shared/api/client";
import type { StepState } from "../../shared/ui/StateMark";

/** The worse of all that was worked out; working while something is. */
export function stateOf(plate: Plate): StepState {
  if (plate.bodies.length === 0) return "todo";
  const nodes = plate.nodes.filter((n) => n.step !== "together");
  if (nodes.some((n) => n.state === "failed")) return "failed";
  if (nodes.some((n) => n.flags.some((f) => f.severity === "stop"))) return "failed";
  if (nodes.some((n) => n.state === "working" || n.state === "ready" || n.state === "blocked")) return "working";
  return nodes.some((n) => n.flags.some((f) => f.severity === "look")) ? "look" : "done";
}
