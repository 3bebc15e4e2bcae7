import { detailOf, goodOf, type NodeOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import type { Point } from "../../store/bench";

export type Die = NonNullable<NonNullable<NodeOf<"dies">["good"]>["dies"]>[number];
export type Kind = "die" | "loose" | "left";
export type Taken = {
  fdi: number;
  kind: Kind;
  way: Point | null;
  opens_mm: number | null;
  walls: Record<string, number>;
};

/** Walls are moved by so much at most. */
export const MOVED_MM = 2;

/** A tooth that is near enough to a place for it to be on it. */
const ON_MM = 9;

export function jawsOf(data: CaseOut): PieceOut[] {
  return data.pieces.filter((p) => p.jaw);
}

export function diesOf(data: CaseOut, piece: string): Die[] {
  return goodOf(data, "dies", piece)?.dies ?? [];
}

/** What a person said of the teeth of a jaw, by the id of the entry. */
export function takenOf(data: CaseOut, piece: string): Record<string, Taken> {
  return (detailOf(data, "dies", piece)?.settings.taken ?? {}) as unknown as Record<string, Taken>;
}

export function areMade(data: CaseOut): boolean {
  return jawsOf(data).some((p) => detailOf(data, "dies", p.id)?.settings.dies === "chart");
}

/** Says something of a tooth; what was said of it before stays. Says nothing any more where that is null. */
export function sayOf(doings: Doings, piece: string, fdi: number, values: Partial<Taken> | null): void {
  doings.entryNow("dies", piece, ["taken"], (now) => {
    const [id, before] = Object.entries(takenOf(now, piece)).find(([, t]) => t.fdi === fdi) ?? ["", null];
    if (values === null) return id ? { id, value: null } : null;
    const { kind = "die", way = null, opens_mm = null, walls = {} } = before ?? {};
    return { id, value: { fdi, kind, way, opens_mm, walls, ...values } };
  });
}

/** Walls as they are said by hand, with the one to a tooth moved; null: it stands by itself again. */
export function withWall(walls: Record<string, number>, fdi: number, mm: number | null): Record<string, number> {
  const { [fdi]: _, ...rest } = walls;
  return mm === null ? rest : { ...rest, [fdi]: Math.round(Math.min(Math.max(mm, -MOVED_MM), MOVED_MM) * 100) / 100 };
}

/** The number of the tooth at a place in a jaw's home. */
export function toothAt(data: CaseOut, piece: string, at: Point): number | null {
  const teeth = goodOf(data, "teeth", piece)?.teeth ?? [];
  let best: number | null = null;
  let least = ON_MM;
  for (const tooth of teeth) {
    const away = Math.hypot(...tooth.centre_mm.map((mm, axis) => mm - (at[axis] ?? 0)));
    if (away < least) [least, best] = [away, tooth.fdi];
  }
  return best;
}
