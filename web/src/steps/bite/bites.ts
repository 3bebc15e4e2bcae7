import { Matrix4 } from "three";
import { detailOf, goodOf, type NodeOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { benchPlace } from "../../stage";
import type { View } from "../../store/bench";

export type NamedBite = NonNullable<NodeOf<"bite">["good"]["bites"]>[number];

/** Every bite of the pair, the first one first. */
export const bitesOf = (data: CaseOut): NamedBite[] => goodOf(data, "bite")?.bites ?? [];

const settingsOf = (data: CaseOut) => detailOf(data, "bite")?.settings;

export const entriesOf = (data: CaseOut) => settingsOf(data)?.bites ?? {};

/** The id of the bite the models are in; empty: the first. */
export function chosenOf(data: CaseOut): string {
  const chosen = settingsOf(data)?.chosen ?? "";
  return bitesOf(data).some((b) => b.id === chosen) ? chosen : "";
}

/** The bite that a bite scan measured; empty: the first. */
export const measuredBy = (data: CaseOut, piece: string): string =>
  Object.entries(entriesOf(data)).find(([, entry]) => entry.scans.includes(piece))?.[0] ?? "";

/** Some numbers or the name of a bite that is not the first. */
export function change(doings: Doings, id: string, values: Record<string, unknown>) {
  doings.entryNow("bite", "*", ["bites"], (now) => ({ id, value: { ...entriesOf(now)[id], ...values } }));
}

/** Where the lower stands in another bite than the one the models are in; null where that is not looked at. */
export function lookedAt(data: CaseOut, view: View, lower: PieceOut): Matrix4 | null {
  const other = bitesOf(data).find((b) => b.id === view.beside);
  const upper = data.pieces.find((p) => p.jaw === "upper");
  if (lower.jaw !== "lower" || !upper || !other?.lower_to_upper || other.id === chosenOf(data)) return null;
  const rows = other.lower_to_upper.flat() as Parameters<Matrix4["set"]>;
  return benchPlace(data, upper).multiply(new Matrix4().set(...rows));
}
