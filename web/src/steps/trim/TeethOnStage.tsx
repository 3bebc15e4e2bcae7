import { useEffect, useMemo, useRef } from "react";
import { Vector3 } from "three";
import { goodOf } from "../../case/look";
import { foundOf, useMargins, useTold } from "../../case/told";
import type { CaseOut } from "../../shared/api/client";
import { useNames } from "../../shared/toothNames";
import { useSame } from "../../shared/useSame";
import { type At, type Drawing, placeOf, type Ring, Rings, toStage } from "../../stage";
import { followFrames, project } from "../../stage/frames";
import type { Point } from "../../store/bench";
import { standsBack } from "./oneJaw";

/** Below this a stretch of a margin is drawn dotted. */
const DOUBT = 0.4;
/** A number stands so far outside of a tooth's middle, and so far past it to the root, in shares of the way from the tips. */
const OUT_MM = 4;
const DOWN = 1.1;

function seenJaws(at: At): CaseOut["pieces"] {
  const { data, view } = at;
  return data.pieces.filter((p) => p.jaw && (view.visibility[p.id] ?? "shown") === "shown" && !standsBack(at, p.id));
}

/** The edge line of each jaw that is seen. */
function EdgeLines({ data, view, ui }: Drawing) {
  const lines = useSame(
    seenJaws({ data, view }).flatMap((p) =>
      (goodOf(data, "edge", p.id)?.line ?? []).map((line) => line.map((at) => toStage(ui, { data, view }, p.id, at))),
    ),
  );
  const rings = useMemo<Ring[]>(() => lines.map((points) => ({ points, dotted: points.map(() => false) })), [lines]);
  return rings.length > 0 ? <Rings rings={rings} colour="#8a3b12" /> : null;
}

/** The margins of all jaws that are seen, and how far the scans are kept. */
export function TeethLines(drawing: Drawing) {
  return (
    <>
      <Margins {...drawing} />
      <EdgeLines {...drawing} />
    </>
  );
}

/** The margins of all jaws that are seen. */
function Margins({ data, view, ui }: Drawing) {
  const { told } = useMargins();
  const jaws = seenJaws({ data, view }).filter((p) => told[p.id]);
  const places = useSame(jaws.map((p) => ({ id: p.id, matrix: placeOf(ui, { data, view }, p).elements })));
  // biome-ignore lint/correctness/useExhaustiveDependencies: of the case only the places of the jaws count
  const rings = useMemo<Ring[]>(() => {
    const at = { data, view };
    return places.flatMap(({ id }) =>
      (told[id] ?? []).map((tooth) => ({
        points: tooth.margin_mm.map((p) => toStage(ui, at, id, p)),
        dotted: tooth.margin_confidence.map((c) => c < DOUBT),
      })),
    );
  }, [places, told]);
  return rings.length > 0 ? <Rings rings={rings} /> : null;
}

/** The number of every tooth, small, on its outer side; one that is turned away is not seen. */
export function Numbers({ data, view, ui }: Drawing) {
  const names = useNames();
  useTold(data);
  if (!view.numbers) return null;
  return seenJaws({ data, view }).flatMap((piece) => {
    const teeth = foundOf(data, piece.id) ?? [];
    const middles = teeth.map((t) => toStage(ui, { data, view }, piece.id, t.centre_mm));
    const x = middles.reduce((sum, m) => sum + m[0], 0) / Math.max(teeth.length, 1);
    const y = Math.max(...middles.map((m) => m[1]), 0) - 8;
    return teeth.map((tooth, i) => (
      <Tag
        key={`${piece.id}/${tooth.fdi}`}
        at={beyond(middles[i] ?? [0, 0, 0], toStage(ui, { data, view }, piece.id, tooth.tips_mm[0] ?? tooth.centre_mm))}
        from={[x, y]}
        doubt={tooth.confidence < 0.6}
        by={tooth.by_hand}
      >
        {names(tooth.fdi)}
      </Tag>
    ));
  });
}

/** From the tip through the middle of a tooth, on to its gum. */
function beyond(middle: Point, tip: Point): Point {
  return [middle[0], middle[1], middle[2] + (middle[2] - tip[2]) * DOWN];
}

function Tag({
  at,
  from,
  doubt,
  by,
  children,
}: {
  at: Point;
  from: [number, number];
  doubt: boolean;
  by: boolean;
  children: string;
}) {
  const box = useRef<HTMLSpanElement>(null);
  const [x, y, z] = at;
  const [fx, fy] = from;
  useEffect(() => {
    const out = new Vector3(x - fx, y - fy, 0).normalize();
    const place: Point = [x + out.x * OUT_MM, y + out.y * OUT_MM, z];
    const eye = new Vector3();
    return followFrames((frame) => {
      const p = project(place, frame);
      if (!box.current) return;
      eye.copy(frame.camera.position).sub(frame.target).normalize();
      // Seen from above or below all of them are; from the side only those that face the eye.
      const away = !p || out.dot(eye) < 0.25 - 1.4 * Math.max(0, Math.abs(eye.z) - 0.25);
      box.current.style.display = away ? "none" : "";
      if (p)
        box.current.style.transform = `translate(${p[0].toFixed(1)}px, ${p[1].toFixed(1)}px) translate(-50%, -50%)`;
    });
  }, [x, y, z, fx, fy]);
  return (
    <span
      ref={box}
      data-testid={`tooth-${children}`}
      className={`pointer-events-none absolute top-0 left-0 rounded px-1 text-[11px] leading-4 font-semibold tabular-nums ${
        doubt ? "border border-warning border-dotted bg-[var(--look-ground)] text-warning" : "bg-base-100/85"
      }`}
    >
      {children}
      {doubt && "?"}
      {by && <span aria-hidden="true">′</span>}
    </span>
  );
}
