import { Matrix4, Vector3 } from "three";
import type { CaseOut, NodeOut, PieceOut } from "../../shared/api/client";
import { useBench } from "../../store/bench";

export interface Saw {
  on: boolean;
  mm: number;
  point: [number, number, number];
  keep: [number, number, number];
}
export type Saws = { bottom: Saw; back: Saw };

/**
 * One mesh on the stage. role : body (the result of the step), raw (the scan itself), goes (what a step takes off),
 * touch and deep (where the jaws touch, and where they overlap too deep), map (the scan with its distances from a jaw).
 * digest : null while Intake is not through; early : the scan's file, of which there is a light copy in the file's unit.
 */
export interface Shown {
  key: string;
  piece: string;
  jaw: string | null;
  digest: string | null;
  early: { sha256: string; unit_mm: number } | null;
  role: "body" | "raw" | "goes" | "touch" | "deep" | "map";
  matrix: Matrix4;
}

interface Ref {
  mesh?: string;
  json?: unknown;
  by_piece?: Record<string, { mesh?: string; json?: unknown } | null>;
}

export function nodeOf(data: CaseOut, step: string, piece = "*"): NodeOut | undefined {
  return (
    data.nodes.find((n) => n.step === step && n.piece === piece) ??
    data.nodes.find((n) => n.step === step && n.piece === "*")
  );
}

/** A value of a node's last good result, for one piece where it has one each. */
export function goodValue(data: CaseOut, step: string, name: string, piece = "*"): unknown {
  const ref = nodeOf(data, step, piece)?.good[name] as Ref | undefined;
  if (!ref) return undefined;
  if (ref.by_piece) return ref.by_piece[piece]?.mesh ?? ref.by_piece[piece]?.json;
  return ref.mesh ?? ref.json;
}

function fromRows(rows: unknown): Matrix4 | null {
  if (!Array.isArray(rows)) return null;
  return new Matrix4().set(...(rows.flat() as Parameters<Matrix4["set"]>));
}

interface About {
  kind: string;
  jaw: string | null;
  unit_mm: number;
  up: [number, number, number];
  front: [number, number, number];
}

/** Before Level has spoken: turned by what Intake saw of it. */
function roughPlace(data: CaseOut, piece: PieceOut): Matrix4 {
  const about = goodValue(data, "intake", "about", piece.id) as About | undefined;
  if (!about) return new Matrix4();
  const z = new Vector3(...about.up).multiplyScalar((piece.jaw ?? about.jaw) === "upper" ? -1 : 1).normalize();
  const y = new Vector3(...about.front).negate();
  y.addScaledVector(z, -y.dot(z)).normalize();
  const x = new Vector3().crossVectors(y, z);
  return new Matrix4().set(x.x, x.y, x.z, 0, y.x, y.y, y.z, 0, z.x, z.y, z.z, 0, 0, 0, 0, 1);
}

/** Where a scan that follows the jaws stands on the bench; null for one that was not placed. */
function followed(data: CaseOut, piece: string): Matrix4 | null {
  return fromRows(goodValue(data, "places", "home_to_bench", piece));
}

export function placeOf(data: CaseOut, piece: PieceOut, step: string): Matrix4 {
  const plate = step === "plate" ? fromRows(goodValue(data, "plate", "home_to_plate", piece.id)) : null;
  const bench =
    fromRows(goodValue(data, "level", "home_to_bench", piece.id)) ??
    followed(data, piece.id) ??
    roughPlace(data, piece);
  return plate ?? (step === "bite" && useBench.getState().book ? opened(bench, piece) : bench);
}

/** Jaws opened like a book: the lower as it is, the upper turned over beside it, both with their teeth to the eye. */
function opened(bench: Matrix4, piece: PieceOut): Matrix4 {
  if ((piece.jaw ?? piece.looks) !== "upper") return new Matrix4().makeTranslation(BOOK_MM, 0, 0).multiply(bench);
  return new Matrix4().makeTranslation(-BOOK_MM, 0, 0).multiply(new Matrix4().makeRotationY(Math.PI)).multiply(bench);
}

const BOOK_MM = 37;

const BODY_FROM: Record<string, [string, string][]> = {
  trim: [["trim", "mesh"]],
  base: [
    ["base", "body"],
    ["trim", "mesh"],
  ],
  plate: [
    ["base", "body"],
    ["trim", "mesh"],
  ],
  "hand-off": [
    ["base", "body"],
    ["trim", "mesh"],
  ],
}; // prettier-ignore

const AT_SCANS = new Set(["intake", "bite", "level"]);

/** What stands on the stage at a step. raw : hold to see the scan through the body. */
export function sceneOf(data: CaseOut, step: string, options: { raw: boolean; sawing: boolean }): Shown[] {
  const out: Shown[] = [];
  for (const piece of data.pieces) {
    const raw = (goodValue(data, "intake", "mesh", piece.id) as string | undefined) ?? null;
    const marked = useBench.getState().marking?.piece === piece.id;
    const along = marked || ((AT_SCANS.has(step) || step === "trim") && followed(data, piece.id) !== null);
    if (raw && !piece.jaw && step !== "intake" && !along) continue;
    const matrix = placeOf(data, piece, step);
    const unit_mm = (goodValue(data, "intake", "about", piece.id) as About | undefined)?.unit_mm ?? 1;
    const add = (digest: string | null, role: Shown["role"]) =>
      out.push({
        key: `${piece.id}/${role}`,
        piece: piece.id,
        jaw: piece.jaw,
        digest,
        early: digest === raw ? { sha256: piece.sha256, unit_mm } : null,
        role,
        matrix,
      });
    const from = (BODY_FROM[step] ?? []).map(([s, n]) => goodValue(data, s, n, piece.id)).find(Boolean) as
      | string
      | undefined;
    if (!from) {
      const map = step === "bite" && !piece.jaw && !marked ? mapOf(data, piece.id) : undefined;
      add(map ?? raw, map ? "map" : "raw");
      if (step === "bite")
        for (const role of ["touch", "deep"] as const) {
          const patch = goodValue(data, "contacts", role, piece.id) as string | undefined;
          if (patch && piece.jaw) add(patch, role);
        }
      // Of a scan that follows the jaws, what lies off them.
      const changed = goodValue(data, "follow", "changed", piece.id) as string | undefined;
      if (step === "bite" && !piece.jaw && !marked && changed) add(changed, "deep");
      continue;
    }
    if (step === "trim") {
      if (options.sawing || options.raw) add(raw, "raw");
      else {
        add(raw, "goes");
        add(from, "body");
      }
      continue;
    }
    add(from, "body");
    if (options.raw) add(raw, "raw");
  }
  return out;
}

/** A scan that lies on the jaws, with how far it lies off them. */
export function mapOf(data: CaseOut, piece: string): string | undefined {
  return (goodValue(data, "fit", "map", piece) ?? goodValue(data, "follow", "map", piece)) as string | undefined;
}

/** Home coordinates of a piece to the stage. */
export function toStage(data: CaseOut, pieceId: string, step: string, point: [number, number, number]): Vector3 {
  const piece = data.pieces.find((p) => p.id === pieceId);
  const v = new Vector3(...point);
  return piece ? v.applyMatrix4(placeOf(data, piece, step)) : v;
}

export function sawsOf(data: CaseOut, piece: string): Saws | null {
  return (goodValue(data, "trim", "saws", piece) as Saws | undefined) ?? null;
}
