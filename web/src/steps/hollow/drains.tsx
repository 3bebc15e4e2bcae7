import { Droplet } from "lucide-react";
import { detailOf, goodOf, pieceOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import { type CardProps, type Drawing, fromStage, Label, PulledBall, type Tool, toStage, useLeft } from "../../stage";
import type { Point } from "../../store/bench";

const WATER = "#2f6f9f";
const round = (at: Point) => at.map((mm) => Math.round(mm * 100) / 100) as Point;

interface ByHand {
  name: string;
  at: Point | null;
}

function drainsOf(data: CaseOut, piece: string) {
  return goodOf(data, "drains", piece)?.drains ?? [];
}

function byHand(data: CaseOut, piece: string): Record<string, ByHand> {
  return (detailOf(data, "hollow", piece)?.settings.drains ?? {}) as Record<string, ByHand>;
}

/** The entry that holds a drain, where there is one: an added drain's own, or the one that moves another. */
function entryOf(data: CaseOut, piece: string, name: string): string {
  const entries = byHand(data, piece);
  return name in entries ? name : (Object.keys(entries).find((id) => entries[id].name === name) ?? "");
}

export const addDrain: Tool = {
  id: "add-drain",
  title: "Add a drain",
  long: "Add a drain: choose where one more lets resin out",
  keys: "shift+c",
  icon: Droplet,
  hint: "Press on a wall: one more drain comes out there, or as near as there is a way.",
  here: ({ data }) => data.pieces.some((p) => drainsOf(data, p.id).length > 0),
  picks: true,
  onPick: ({ doings }, shown, home) =>
    doings.entry("hollow", shown.piece, ["drains"], "", { name: "", at: round(home) }),
};

/** A ball where every drain comes out, by which it is pulled elsewhere. */
export function DrainBalls(drawing: Drawing) {
  const { data, view, ui, doings, hold } = drawing;
  const at = { data, view };
  const left = useLeft();
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .flatMap((p) =>
      drainsOf(data, p.id)
        .filter((drain) => left(toStage(ui, at, p.id, drain.at_mm)))
        .map((drain) => (
          <PulledBall
            key={`${p.id} ${drain.name}`}
            name={`drain-${p.jaw}-${drain.name}`}
            at={toStage(ui, at, p.id, drain.at_mm)}
            colour={WATER}
            radius={1.0}
            along="view"
            onHold={hold}
            onPut={(stage) => {
              const to = fromStage(ui, at, p.id, stage);
              const id = entryOf(data, p.id, drain.name);
              if (to)
                doings.entry("hollow", p.id, ["drains"], id, {
                  name: id === drain.name ? "" : drain.name,
                  at: round(to),
                });
            }}
          />
        )),
    );
}

export function DrainWords({ data, view, ui }: Drawing) {
  const left = useLeft();
  return data.pieces
    .filter((p) => p.jaw && view.visibility[p.id] !== "hidden")
    .flatMap((p) =>
      drainsOf(data, p.id)
        .filter((drain) => left(toStage(ui, { data, view }, p.id, drain.at_mm)))
        .map((drain) => (
          <Label key={`${p.id} ${drain.name}`} at={toStage(ui, { data, view }, p.id, drain.at_mm)}>
            <span className="text-xs">drain</span>
          </Label>
        )),
    );
}

/** The drains of a body: each is left out, or goes back to where it finds its place by itself. */
export function DrainList({ data, node, doings }: CardProps) {
  const piece = node && pieceOf(data, node.piece);
  if (!piece) return null;
  const drains = drainsOf(data, piece.id);
  const entries = byHand(data, piece.id);
  const without = Object.entries(entries).filter(([, e]) => e.at === null && e.name);
  if (drains.length === 0 && without.length === 0) return null;
  return (
    <ul aria-label="Drains" className="mt-2 text-[13px]">
      {drains.map((drain) => {
        const id = entryOf(data, piece.id, drain.name);
        const added = id !== "" && id === drain.name;
        return (
          <li key={drain.name} className="line flex items-center gap-2 border-b py-1">
            <span className="flex-1">
              Drain {added ? "added" : drain.name}
              {id && !added && <span className="dim"> · put by hand</span>}
            </span>
            {id && !added && (
              <button
                type="button"
                className="font-semibold text-primary"
                onClick={() => doings.entry("hollow", piece.id, ["drains"], id, null)}
              >
                By itself
              </button>
            )}
            <button
              type="button"
              className="font-semibold text-primary"
              onClick={() =>
                added
                  ? doings.entry("hollow", piece.id, ["drains"], id, null)
                  : doings.entry("hollow", piece.id, ["drains"], id, { name: drain.name, at: null })
              }
            >
              Leave out
            </button>
          </li>
        );
      })}
      {without.map(([id, entry]) => (
        <li key={id} className="line flex items-center gap-2 border-b py-1">
          <span className="dim flex-1">Drain {entry.name}, left out</span>
          <button
            type="button"
            className="font-semibold text-primary"
            onClick={() => doings.entry("hollow", piece.id, ["drains"], id, null)}
          >
            Back again
          </button>
        </li>
      ))}
    </ul>
  );
}
