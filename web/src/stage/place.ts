import { Matrix4, Vector3 } from "three";
import { goodOf, ofEach, pieceOf } from "../case/look";
import type { CaseOut, PieceOut } from "../shared/api/client";
import type { Point } from "../store/bench";
import type { At, Look, Shown, StepUi } from "./kit";

type Rows = [number, number, number, number][];

export function fromRows(rows: Rows | null | undefined): Matrix4 | null {
  const [a, b, c, d] = rows ?? [];
  return a && b && c && d ? new Matrix4().set(...a, ...b, ...c, ...d) : null;
}

/** Before Level has spoken: turned by what Intake saw of it. */
function roughPlace(data: CaseOut, piece: PieceOut): Matrix4 {
  const about = goodOf(data, "intake", piece.id)?.about;
  if (!about) return new Matrix4();
  const z = new Vector3(...about.up).multiplyScalar((piece.jaw ?? about.jaw) === "upper" ? -1 : 1).normalize();
  const y = new Vector3(...about.front).negate();
  y.addScaledVector(z, -y.dot(z)).normalize();
  const x = new Vector3().crossVectors(y, z);
  return new Matrix4().set(x.x, x.y, x.z, 0, y.x, y.y, y.z, 0, z.x, z.y, z.z, 0, 0, 0, 0, 1);
}

/** Where a scan that follows the jaws stands on the bench; null for one that was not placed. */
export function followed(data: CaseOut, piece: string): Matrix4 | null {
  return fromRows(ofEach(goodOf(data, "places")?.home_to_bench, piece));
}

export function benchPlace(data: CaseOut, piece: PieceOut): Matrix4 {
  return (
    fromRows(ofEach(goodOf(data, "level")?.home_to_bench, piece.id)) ??
    followed(data, piece.id) ??
    roughPlace(data, piece)
  );
}

/** Where a piece stands at a step. */
export function placeOf(ui: StepUi, at: At, piece: PieceOut): Matrix4 {
  return ui.place?.(at, piece) ?? benchPlace(at.data, piece);
}

/** Home coordinates of a piece to the stage. */
export function toStage(ui: StepUi, at: At, address: string, point: Point): Point {
  const piece = pieceOf(at.data, address);
  const v = new Vector3(...point);
  if (piece) v.applyMatrix4(placeOf(ui, at, { ...piece, id: address }));
  return [v.x, v.y, v.z];
}

/** A place on the stage in home coordinates of a piece, as settings keep it: to a hundredth of a millimetre. */
export function fromStage(ui: StepUi, at: At, address: string, point: Point): Point | null {
  const piece = pieceOf(at.data, address);
  if (!piece) return null;
  const v = new Vector3(...point).applyMatrix4(new Matrix4().copy(placeOf(ui, at, { ...piece, id: address })).invert());
  const round = (mm: number) => Math.round(mm * 100) / 100;
  return [round(v.x), round(v.y), round(v.z)];
}

/** One mesh of a piece in its place. early : it is the scan itself, of which there are copies before Intake is through. */
export function shownOf(
  at: At,
  ui: StepUi,
  piece: PieceOut,
  {
    digest,
    role,
    drawn = "body",
    early = false,
  }: { digest: string | null; role: string; drawn?: Look; early?: boolean },
): Shown {
  const unit_mm = goodOf(at.data, "intake", piece.id)?.about?.unit_mm ?? 1;
  return {
    key: `${piece.id}/${role}`,
    piece: piece.id,
    jaw: piece.jaw,
    digest,
    early: early ? { sha256: piece.sha256, unit_mm } : null,
    role,
    drawn,
    matrix: placeOf(ui, at, piece),
  };
}

/** The scan as it came. */
export function rawOf(at: At, ui: StepUi, piece: PieceOut): Shown {
  return shownOf(at, ui, piece, { digest: rawDigest(at.data, piece), role: "raw", early: true });
}

export function rawDigest(data: CaseOut, piece: PieceOut): string | null {
  return goodOf(data, "intake", piece.id)?.mesh ?? null;
}

/** Is it on the stage? Of what is no jaw only what is not known yet, and at some steps what follows the jaws. */
export function takesPart(at: At, piece: PieceOut, { followers }: { followers: boolean }): boolean {
  if (piece.jaw || !rawDigest(at.data, piece)) return true;
  return at.view.marking?.piece === piece.id || (followers && followed(at.data, piece.id) !== null);
}

/** The scans as they came: what stands on the stage before there are bodies. all : also what follows no jaw. */
export function scansScene(ui: StepUi, { all = false } = {}): (at: At) => Shown[] {
  return (at) =>
    at.data.pieces.filter((p) => all || takesPart(at, p, { followers: true })).map((piece) => rawOf(at, ui, piece));
}

/** The bodies as far as they are worked out, with the raw scans in them where those are asked for. */
export function bodiesScene(ui: StepUi): (at: At) => Shown[] {
  return (at) =>
    at.data.pieces
      .filter((p) => takesPart(at, p, { followers: false }))
      .flatMap((piece) => {
        const body = bodyOf(at.data, piece.id);
        if (!body) return [rawOf(at, ui, piece)];
        const out = [shownOf(at, ui, piece, { digest: body, role: "body" }), ...partsOf(at, ui, piece)];
        return at.view.rawHeld ? [...out, rawOf(at, ui, piece)] : out;
      });
}

/** What is printed by itself beside a jaw's body. */
function partsOf(at: At, ui: StepUi, piece: PieceOut): Shown[] {
  return at.data.nodes.flatMap((node) => {
    const body = node.step === "assemble" && node.piece.startsWith(`${piece.id}.`) ? node.good?.body : null;
    return body ? [shownOf(at, ui, { ...piece, id: node.piece }, { digest: body, role: "body" })] : [];
  });
}

function bodyOf(data: CaseOut, piece: string): string | null {
  return (
    goodOf(data, "assemble", piece)?.body ??
    goodOf(data, "base", piece)?.body ??
    goodOf(data, "trim", piece)?.mesh ??
    null
  );
}
