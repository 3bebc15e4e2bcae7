import { detailOf, goodOf, type NodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import type { At } from "../../stage";
import type { Point } from "../../store/bench";

export type Foot = NonNullable<NonNullable<NonNullable<NodeOf<"foot">["good"]>["foot"]>[string]>;
export type Walls = NonNullable<NonNullable<NodeOf<"base">["good"]>["walls"]>;

/** What a height is set by: the setting that holds it, and by how many mm that grows for each mm the plane goes away from the teeth. */
export interface HeldBy {
  key: "thickness_mm" | "total_mm" | "gap_mm";
  label: string;
  times: number;
  least: number;
  most: number;
}

const BY: Record<string, HeldBy> = {
  under: { key: "thickness_mm", label: "under the lowest point", times: 1, least: 1, most: 40 },
  total: { key: "total_mm", label: "in all", times: 1, least: 5, most: 80 },
  gap: { key: "gap_mm", label: "gap", times: 2, least: 15, most: 120 },
};

export function footOf(data: CaseOut, piece: string): Foot | null {
  return goodOf(data, "foot")?.foot?.[piece] ?? null;
}

export function platesOf(data: CaseOut) {
  return goodOf(data, "foot")?.plates ?? null;
}

/** The setting the plane of a jaw is held by, and its value; null while the card has not come. */
export function heldBy(data: CaseOut, piece: string): { by: HeldBy; mm: number } | null {
  const settings = detailOf(data, "base", piece)?.settings as Record<string, unknown> | undefined;
  const by = settings && BY[String(settings.height)];
  if (!by) return null;
  const value = settings[by.key];
  return { by, mm: typeof value === "number" ? value : (platesOf(data)?.gap_mm ?? 40) };
}

/** Where the flat underside of a jaw lies, along its foot's up: as it is, or where it is pulled to. */
export function floorOf({ data, view }: At, piece: string): number | null {
  const walls = goodOf(data, "base", piece)?.walls;
  const held = heldBy(data, piece);
  if (!walls) return null;
  const tried = view.tried?.step === "base" && held ? view.tried.values[held.by.key] : undefined;
  return tried === undefined || !held ? walls.floor_mm : walls.floor_mm - (tried - held.mm) / held.by.times;
}

/** A place in a jaw's home: so high over its foot's origin, and there x across and y away from the front. */
export function inHome(foot: Foot, height: number, x = 0, y = 0): Point {
  const { origin, up, front } = foot;
  // x runs along (-front) × up.
  const side = [
    -front[1] * up[2] + front[2] * up[1],
    -front[2] * up[0] + front[0] * up[2],
    -front[0] * up[1] + front[1] * up[0],
  ];
  return [0, 1, 2].map((k) => origin[k] + height * up[k] + x * side[k] - y * front[k]) as Point;
}
