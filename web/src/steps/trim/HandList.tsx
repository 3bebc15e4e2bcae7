import { detailOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { marksOf } from "./markings";

interface Row {
  step: string;
  at: string;
  id: string;
  words: string;
  /** Other ways it may be, by the words on their buttons. */
  ways?: { words: string; value: Record<string, unknown> }[];
}

/** All that was done by hand on a jaw, each to be dropped by itself; undo takes the last back. */
export function HandList({ data, piece, doings }: { data: CaseOut; piece: string; doings: Doings }) {
  const rows = [...marks(data, piece), ...pulls(data, piece), ...strokes(data, piece), ...left(data, piece)];
  if (rows.length === 0) return null;
  return (
    <ul aria-label="Done by hand" className="line mb-2 max-h-48 overflow-y-auto border-b pb-1 text-[13px]">
      {rows.map((row) => (
        <li
          key={row.step + row.id}
          className="line flex flex-wrap items-center gap-x-2 border-t py-0.5 first:border-t-0"
        >
          <span className="min-w-0 flex-1">By hand: {row.words}</span>
          {row.ways?.map((way) => (
            <button
              key={way.words}
              type="button"
              className="font-semibold text-primary"
              onClick={() => doings.entry(row.step, piece, [row.at], row.id, way.value)}
            >
              {way.words}
            </button>
          ))}
          <button
            type="button"
            className="font-semibold text-primary"
            aria-label={`Drop ${row.words}, ${row.id}`}
            onClick={() => doings.entry(row.step, piece, [row.at], row.id, null)}
          >
            Drop
          </button>
        </li>
      ))}
    </ul>
  );
}

const inOrder = <T,>(entries: Record<string, T>): [string, T][] =>
  Object.entries(entries).sort(([a], [b]) => a.length - b.length || a.localeCompare(b));

const REACH = { asked: "not said how far", near: "near side", through: "right through" } as const;

function marks(data: CaseOut, piece: string): Row[] {
  return inOrder(marksOf(data, piece)).map(([id, mark]) => {
    const row = { step: "marked", at: "marks", id };
    const stays = mark.adds === false ? ", stays" : "";
    if (mark.kind === "fence") {
      const reach = mark.reach ?? "asked";
      const other = reach === "near" ? "through" : "near";
      const ways = [{ words: REACH[other], value: { ...mark, reach: other } }];
      return { ...row, words: `fence, ${REACH[reach]}${stays}`, ways };
    }
    if (mark.kind === "saw") {
      const towards = (mark.towards ?? [0, 0, 1]).map((x: number) => -x);
      return { ...row, words: `cut${stays}`, ways: [{ words: "other side", value: { ...mark, towards } }] };
    }
    if (mark.kind === "grow") return { ...row, words: `marked ${mark.mm && mark.mm < 0 ? "" : "+"}${mark.mm} mm` };
    if (mark.kind === "swab") return { ...row, words: `swab ${((mark.mm ?? 0) * 2).toFixed(1)} mm${stays}` };
    return { ...row, words: `${mark.kind === "piece" ? "whole piece" : "the other way round"}${stays}` };
  });
}

function pulls(data: CaseOut, piece: string): Row[] {
  const pulls = detailOf(data, "edge", piece)?.settings.pulls ?? {};
  return inOrder(pulls).map(([id, pull]) => {
    return { step: "edge", at: "pulls", id, words: pull.at ? "edge line pulled" : "edge line drawn" };
  });
}

function strokes(data: CaseOut, piece: string): Row[] {
  const strokes = detailOf(data, "touch", piece)?.settings.strokes ?? {};
  return inOrder(strokes).map(([id, s]) => ({
    step: "touch",
    at: "strokes",
    id,
    words: `${{ add: "added", carve: "carved", smooth: "smoothed" }[s.kind]}, ${(s.radius_mm * 2).toFixed(1)} mm wide${s.teeth ? ", teeth too" : ""}`,
  }));
}

function left(data: CaseOut, piece: string): Row[] {
  const left = detailOf(data, "clean", piece)?.settings.left ?? {};
  return inOrder(left).map(([id, entry]) => ({
    step: "clean",
    at: "left",
    id,
    words: `${entry.kind} left as it came`,
  }));
}
