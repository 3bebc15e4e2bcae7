import { create } from "zustand";
import { detailOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";

/** The house part on a base that the Attach tool places anew; a new one where nothing is chosen. next : the content of the file that a new
 * one is, of the last that was taken from the shelf. */
export const useMovedPart = create<{ piece: string; entry: string; next: string }>(() => ({
  piece: "",
  entry: "",
  next: "",
}));

/** What was brought in to be put on a base. */
export const partPieces = (data: CaseOut): PieceOut[] => data.pieces.filter((p) => p.kind === "part");

/** The house parts on a jaw's base, by the id of their entries. */
export const partsOn = (data: CaseOut, jaw: string) => detailOf(data, "attach", jaw)?.settings.parts ?? {};

export function changePart(doings: Doings, jaw: string, id: string, values: object) {
  doings.entryNow("attach", jaw, ["parts"], (now) => ({ id, value: { ...partsOn(now, jaw)[id], ...values } }));
}
