import { goodOf, type NodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import type { At } from "../../stage";

export type Saws = NonNullable<NodeOf<"trim">["good"]["saws"]>;
export type SawName = keyof Saws;

/** The saws of a jaw as they stand. */
export function sawsOf(data: CaseOut, piece: string): Saws | null {
  return goodOf(data, "trim", piece)?.saws ?? null;
}

/** Those of a jaw as they are seen now: where they are pulled to, or where they stand. */
export function seenSaws({ data, view }: At, piece: string): Saws | null {
  const saws = sawsOf(data, piece);
  const tried = view.tried?.step === "trim" && view.tried.piece === piece ? view.tried.values : {};
  if (!saws) return null;
  return {
    bottom: moved(saws.bottom, tried.bottom_mm ?? saws.bottom.mm),
    back: moved(saws.back, tried.back_mm ?? saws.back.mm),
  };
}

/** A saw at another place along its axis. */
function moved(saw: Saws[SawName], mm: number): Saws[SawName] {
  const by = mm - saw.mm;
  const [x, y, z] = saw.point;
  const [a, b, c] = saw.keep;
  return { ...saw, mm, point: [x - a * by, y - b * by, z - c * by] };
}
