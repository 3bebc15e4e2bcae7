import type { CaseOut, Flag, NodeDetail, NodeOut, PieceOut } from "../shared/api/client";

export type StepName = NodeOut["step"];
export type NodeOf<S extends StepName> = Extract<NodeOut, { step: S }>;
export type DetailOf<S extends StepName> = Extract<NodeDetail, { step: S }>;

/** The nearest above an address first: p1.die-16, p1, *. */
function above(address: string): string[] {
  const parts = address.split(".");
  const chain = parts.map((_, i) => parts.slice(0, parts.length - i).join("."));
  return address === "*" ? chain : [...chain, "*"];
}

/** The node of a step for this address, or for the nearest above it. */
export function nodeOf<S extends StepName>(data: CaseOut, step: S, address = "*"): NodeOf<S> | undefined {
  const own = data.nodes.filter((n): n is NodeOf<S> => n.step === step);
  for (const at of above(address)) {
    const found = own.find((n) => n.piece === at);
    if (found) return found;
  }
  return undefined;
}

/** What a step last gave that was good, typed by the step. */
export function goodOf<S extends StepName>(data: CaseOut, step: S, address = "*"): NodeOf<S>["good"] | undefined {
  const node: NodeOut | undefined = nodeOf(data, step, address);
  // The node is one of this step; TypeScript does not carry that over to its fields while S is open.
  return node?.good as NodeOf<S>["good"] | undefined;
}

/** From values by address: the one for this, or for the nearest above it. */
export function ofEach<T>(each: Record<string, T | null> | null | undefined, address: string): T | null {
  if (each) for (const at of above(address)) if (at in each) return each[at] ?? null;
  return null;
}

export function nodesOf(data: CaseOut, step: string): NodeOut[] {
  return data.nodes.filter((n) => n.step === step);
}

/** The nodes whose states are the step's on the run sheet: of what can be on where the step itself is off, too. */
export function speakingOf(data: CaseOut, step: string): NodeOut[] {
  return data.nodes.filter((n) => n.speaks && (n.step === step || n.part_of === step));
}

/** All there is to say of the nodes of a step and of its parts; nothing until it has come for the step that is open. */
export function detailsOf(data: CaseOut, step: string): NodeDetail[] {
  return data.open === step ? data.opened : [];
}

/** The same of one step, where it or the step it is a part of is open. */
export function detailOf<S extends StepName>(data: CaseOut, step: S, address = "*"): DetailOf<S> | undefined {
  return data.opened.find((d): d is DetailOf<S> => d.step === step && d.piece === address);
}

export function detailOfNode(data: CaseOut, node: NodeOut | undefined): NodeDetail | undefined {
  return data.opened.find((d) => d.id === node?.id);
}

export function flagsOf(detail: NodeDetail | undefined): Flag[] {
  return detail?.flags ?? [];
}

/** Is this node one of a part of the step that runs once for the case? */
export function partsOf(data: CaseOut, step: string): NodeDetail[] {
  const ids = new Set(data.nodes.filter((n) => n.part_of === step && n.piece === "*").map((n) => n.id));
  return data.opened.filter((d) => ids.has(d.id));
}

/** What the parts of a step say of one piece, or of every piece, where they run for each. */
export function partsOfPiece(data: CaseOut, step: string, address: string | null): NodeDetail[] {
  const own = data.nodes.filter((n) => n.part_of === step && n.piece !== "*");
  const ids = new Set(own.filter((n) => address === null || n.piece === address).map((n) => n.id));
  return data.opened.filter((d) => ids.has(d.id));
}

export function pieceOf(data: CaseOut, address: string): PieceOut | undefined {
  return data.pieces.find((p) => p.id === address.split(".")[0]);
}

/** Does the step wait for a yes? One that is off does not; one that has changed since does again. */
export function asks(data: CaseOut, step: { name: string; on_demand: boolean }): boolean {
  const nodes = speakingOf(data, step.name);
  if (step.on_demand || (nodes.length > 0 && nodes.every((n) => n.state === "off"))) return false;
  const changed = data.accepted[step.name];
  return changed === undefined || changed.length > 0;
}

/** Was it accepted, and is it still what was seen? */
export function isAccepted(data: CaseOut, step: string): boolean {
  return data.accepted[step]?.length === 0;
}
