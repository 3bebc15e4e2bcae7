import { goodOf } from "../../case/look";
import type { Told } from "../../case/told";
import type { At } from "../../stage";
import type { Point } from "../../store/bench";

/** The edge line of a jaw, in its home; nothing where all is kept. */
export function edgeOf({ data }: At, piece: string): Point[] {
  return goodOf(data, "edge", piece)?.line?.[0] ?? [];
}

const far = (a: Point, b: Point) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]);

/** The point of a line that is nearest to a place: its number and how far it is (mm). */
export function nearestOf(line: Point[], at: Point): { i: number; mm: number } {
  let best = { i: -1, mm: Number.POSITIVE_INFINITY };
  line.forEach((p, i) => {
    const mm = far(p, at);
    if (mm < best.mm) best = { i, mm };
  });
  return best;
}

/** How near a place is to the nearest margin (mm), and of which tooth that is; nothing where no teeth are told. */
export function nearTooth(told: Told[], at: Point): { fdi: number; mm: number; on: boolean } | null {
  let best: { fdi: number; mm: number; on: boolean } | null = null;
  for (const tooth of told) {
    const { i, mm } = nearestOf(tooth.margin_mm, at);
    const margin = tooth.margin_mm[i];
    if (!margin || (best && mm >= best.mm)) continue;
    // On the tooth: nearer to its middle than its margin is there.
    best = { fdi: tooth.fdi, mm, on: far(at, tooth.centre_mm) < far(margin, tooth.centre_mm) };
  }
  return best;
}
